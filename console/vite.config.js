import { readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { brotliCompressSync, gzipSync } from 'node:zlib';

import react from '@vitejs/plugin-react';
import { defineConfig } from 'vite';

/** Writes each script and style beside itself as it is sent: smaller than the service could make it while it answers. */
const compressed = {
  name: 'compressed',
  closeBundle() {
    for (const name of readdirSync('dist/assets').filter((n) => /\.(js|css)$/.test(n))) {
      const text = readFileSync(`dist/assets/${name}`);
      writeFileSync(`dist/assets/${name}.br`, brotliCompressSync(text));
      writeFileSync(`dist/assets/${name}.gz`, gzipSync(text, { level: 9 }));
    }
  },
};

export default defineConfig({
  plugins: [react(), compressed],
  build: { target: 'es2023', chunkSizeWarningLimit: 600, assetsInlineLimit: 0 },
  server: { proxy: { '/manage': 'http://127.0.0.1:8080', '/draft': 'http://127.0.0.1:8080' } },
});
