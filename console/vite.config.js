import react from '@vitejs/plugin-react';
import { defineConfig } from 'vite';

export default defineConfig({
  plugins: [react()],
  build: { chunkSizeWarningLimit: 1200, assetsInlineLimit: 0 },
  server: { proxy: { '/manage': 'http://127.0.0.1:8080', '/draft': 'http://127.0.0.1:8080' } },
});
