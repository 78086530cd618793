import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [vue()],
  build: { outDir: 'dist', emptyOutDir: false, chunkSizeWarningLimit: 1500 },
})
