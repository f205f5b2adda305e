import react from '@vitejs/plugin-react'
import { defineConfig } from 'vite'

// Nothing is inlined as data: URLs: the page's content security policy takes fonts from the server alone.
// The console is served by the binary that it is built into; `npm run dev` borrows a running server's API.
export default defineConfig({
  plugins: [react()],
  build: { outDir: 'dist', emptyOutDir: true, chunkSizeWarningLimit: 1500, assetsInlineLimit: 0 },
  server: { proxy: { '/api': 'http://127.0.0.1:8460' } },
})
