import tailwindcss from '@tailwindcss/vite'
import react from '@vitejs/plugin-react'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: {
    // Inlined files would need looser rules for where content may come from.
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 1200,
  },
  // For work on the console: `npx vite` beside a service that runs.
  server: { proxy: { '/api': 'http://127.0.0.1:7400' } },
})
