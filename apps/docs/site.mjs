// `npm run docs`: the documentation in a browser, made again when a page is saved. `--out <folder>` builds it as a site for any web server.
import { cpSync, readdirSync, writeFileSync } from 'node:fs';
import { dirname, join, resolve } from 'node:path';
import { fileURLToPath } from 'node:url';
import { watch } from 'chokidar';
import { build, createServer } from 'vite';
import { docs, pagesFolder, writePages } from './pages.mjs';

const here = dirname(fileURLToPath(import.meta.url));
const mostChars = 3000;

/** All pages, the script that they share, and what it searches: of the API, how each page begins. */
function write() {
  const documents = writePages().map(({ path, text }) => ({ path, text: path.startsWith('api/') ? text.slice(0, mostChars) : text }));
  writeFileSync(join(pagesFolder, 'documents.json'), JSON.stringify(documents));
  writeFileSync(join(pagesFolder, 'search.js'), "import '../src/search.ts';\n");
  return documents.length;
}

const count = write();
const shared = { root: pagesFolder, appType: 'mpa', configFile: false, logLevel: 'warn', base: './', json: { stringify: true } };
const out = process.argv.indexOf('--out');
if (out > 0) {
  const folder = resolve(process.argv[out + 1] ?? 'site');
  const input = readdirSync(pagesFolder, { recursive: true }).filter((file) => file.endsWith('.html'));
  await build({
    ...shared,
    build: {
      outDir: folder,
      emptyOutDir: true,
      target: 'es2022',
      chunkSizeWarningLimit: 3000,
      rollupOptions: { input: input.map((file) => join(pagesFolder, file)) },
    },
  });
  for (const place of ['screenshots', 'soak.svg', 'schemas']) cpSync(join(pagesFolder, place), join(folder, place), { recursive: true });
  console.log(`${count} pages are in ${folder}, with their search. Any web server can serve it.`);
} else {
  const server = await createServer({
    ...shared,
    server: { host: '127.0.0.1', port: Number(process.env.PORT ?? 4390), strictPort: false, fs: { allow: [join(here, '../..')] } },
  });
  await server.listen();
  watch([docs, join(here, 'src/site.css')], { ignoreInitial: true }).on('all', (_event, path) => {
    try {
      write();
      server.ws.send({ type: 'full-reload' });
    } catch (error) {
      console.error(`${path}: ${error.message}`);
    }
  });
  console.log(`The documentation is at ${server.resolvedUrls.local[0]}   (stop with Ctrl-C)`);
  const stop = () => void server.close().then(() => process.exit(0));
  for (const signal of ['SIGINT', 'SIGTERM']) process.on(signal, stop);
}
