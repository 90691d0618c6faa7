import react from '@vitejs/plugin-react';
import { writeFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { defineConfig, type Plugin } from 'vite';

const folder = fileURLToPath(new URL('../../packages/jexo/dist/', import.meta.url));

/** Lists the files the page is made of, for the list of licences. */
const inputs: Plugin = {
  name: 'inputs',
  generateBundle() {
    writeFileSync(`${folder}.page.inputs.json`, JSON.stringify([...this.getModuleIds()]));
  },
};

export default defineConfig({
  plugins: [react(), inputs],
  build: {
    outDir: '../../packages/jexo/dist/page',
    emptyOutDir: true,
    chunkSizeWarningLimit: 1000,
    target: 'es2022',
    modulePreload: { polyfill: false },
  },
});
