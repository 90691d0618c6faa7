import react from '@vitejs/plugin-react';
import { defineConfig } from 'vite';

export default defineConfig({
  plugins: [react()],
  build: { outDir: '../../packages/jexo/dist/page', emptyOutDir: true, target: 'es2022', modulePreload: { polyfill: false } },
});
