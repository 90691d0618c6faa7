import { spawnSync } from 'node:child_process';
import { mkdirSync, readFileSync, symlinkSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { freshFolder, run } from '../support/command-line.js';
import { root } from './demo-world.js';

const folder = freshFolder('consumers');
let tarball: string;
beforeAll(async () => {
  const packed = spawnSync('npm', ['pack', '-w', 'packages/jexo', '--pack-destination', folder, '--json'], { cwd: root, encoding: 'utf8' });
  tarball = join(folder, (JSON.parse(packed.stdout) as { filename: string }[])[0]!.filename);
  writeFileSync(join(folder, 'package.json'), '{ "name": "consumer", "private": true }');
  const flags = ['--no-audit', '--no-fund', '--prefer-offline'];
  const installed = await run('npm', ['install', tarball, ...flags], { cwd: folder });
  expect([installed.code, installed.code === 0 ? '' : installed.stderr]).toEqual([0, '']);
  // What such a project has beside it.
  for (const name of ['zod', 'vite', 'react', '@types/node', '@types/react']) {
    mkdirSync(join(folder, 'node_modules', name, '..'), { recursive: true });
    symlinkSync(join(root, 'node_modules', name), join(folder, 'node_modules', name));
  }
}, 120_000);

const server = `defineServer({ name: 'a', version: '1.0.0', offers: [tool('weigh', { description: 'Weighs.' }, () => '31 kg')] })`;
const imports = {
  esm: `import { connect, defineServer, tool, type Server } from 'jexo';
import { functionSet } from 'jexo/client';
import { matchers } from 'jexo/testing';
import { openView } from 'jexo/view';
import { useHostView } from 'jexo/view/react';
import { showView } from 'jexo/view/host';
import { singlePage } from 'jexo/vite';
import { z } from 'zod';
const server: Server = ${server};
const typed = tool('feed', { description: 'Feeds.', input: z.object({ colonies: z.number() }) }, ({ colonies }) => colonies.toFixed(1));
const client = await connect(server);
console.log((await client.call('weigh')).content);
await client.close();
void [functionSet, matchers, openView, useHostView, showView, singlePage, typed];
`,
  commonjs: `import type { Server } from 'jexo' with { 'resolution-mode': 'import' };
async function main(): Promise<void> {
  const { connect, defineServer, tool } = await import('jexo');
  const { matchers } = await import('jexo/testing');
  const server: Server = ${server};
  const client = await connect(server);
  console.log((await client.call('weigh')).content, typeof matchers);
  await client.close();
}
void main();
`,
};
const tsc = join(root, 'node_modules/typescript/bin/tsc');

test.each([
  ['esm', 'nodenext', 'nodenext'],
  ['esm', 'esnext', 'bundler'],
  ['commonjs', 'nodenext', 'nodenext'],
] as const)(
  'a project in %s (module %s, resolution %s) compiles without skipping checks of libraries, and runs',
  async (kind, module, resolution) => {
    const own = join(folder, `${kind}-${resolution}`);
    mkdirSync(own);
    writeFileSync(join(own, 'package.json'), JSON.stringify({ type: kind === 'esm' ? 'module' : 'commonjs' }));
    const react = readFileSync(join(root, 'packages/jexo/dist/types/view/react.d.ts'), 'utf8');
    const [, hook] = /export declare function (use\w+)/.exec(react)!;
    writeFileSync(join(own, 'a.ts'), imports[kind].replaceAll('useHostView', hook!));
    const flags = ['--module', module, '--moduleResolution', resolution, '--target', 'es2023', '--strict', '--skipLibCheck', 'false'];
    const compiled = await run(
      process.execPath,
      [tsc, ...flags, '--exactOptionalPropertyTypes', '--types', 'node', '--outDir', 'out', 'a.ts'],
      {
        cwd: own,
      },
    );
    expect([compiled.code, compiled.stdout]).toEqual([0, '']);
    const ran = await run(process.execPath, ['out/a.js'], { cwd: own });
    expect(ran).toMatchObject({ code: 0, stdout: expect.stringContaining('31 kg') as string, stderr: '' });
  },
);

test('a CommonJS program requires it too, where Node.js can', async () => {
  writeFileSync(
    join(folder, 'a.cjs'),
    `const { defineServer, tool } = require('jexo');\nconsole.log(${server}.constructor.name !== '');\n`,
  );
  const { code, stdout } = await run(process.execPath, ['a.cjs'], { cwd: folder });
  expect([code, stdout]).toEqual([0, 'true\n']);
});

test('the types of every entry are found, and say what runs', async () => {
  // In a process of its own: it brings a compiler.
  const script = `import { checkPackage, createPackageFromTarballData } from '@arethetypeswrong/core';
import { readFileSync } from 'node:fs';
const { problems } = await checkPackage(createPackageFromTarballData(readFileSync(process.argv[1])));
console.log(JSON.stringify(problems));`;
  const { stdout, stderr } = await run(process.execPath, ['--input-type=module', '-e', script, tarball], { cwd: root });
  const problems = JSON.parse(stdout || `"${stderr}"`) as { kind: string; entrypoint: string; resolutionKind: string }[];
  // It is ESM, which is what a CommonJS program is told; and it needs a resolution that knows \`exports\`.
  expect(problems.filter(({ kind, resolutionKind }) => kind !== 'CJSResolvesToESM' && resolutionKind !== 'node10')).toEqual([]);
  expect(problems.length).toBeGreaterThan(0);
});
