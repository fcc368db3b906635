import vue from '@vitejs/plugin-vue'
import tailwindcss from '@tailwindcss/vite'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [vue(), tailwindcss()],
  build: { outDir: '../internal/service/dist', emptyOutDir: false, chunkSizeWarningLimit: 1200 },
})
