import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vitest/config'

export default defineConfig({
  plugins: [vue()],
  build: { outDir: 'dist', emptyOutDir: false, chunkSizeWarningLimit: 1500 },
  test: { include: ['src/**/*.test.ts'], setupFiles: ['src/tab.spec.ts', 'src/wire.spec.ts'] },
})
