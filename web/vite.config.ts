import { brotliCompressSync, gzipSync } from 'node:zlib'
import { readdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import react from '@vitejs/plugin-react'
import { defineConfig, type Plugin } from 'vite'

// The service serves these as they are, so that it compresses nothing itself.
function precompress(): Plugin {
  return {
    name: 'precompress',
    apply: 'build',
    closeBundle() {
      const dir = join(import.meta.dirname, 'dist', 'assets')
      for (const name of readdirSync(dir)) {
        if (!/\.(js|css|svg)$/.test(name)) continue
        const raw = readFileSync(join(dir, name))
        writeFileSync(join(dir, name + '.br'), brotliCompressSync(raw))
        writeFileSync(join(dir, name + '.gz'), gzipSync(raw, { level: 9 }))
      }
      writeFileSync(join(import.meta.dirname, 'dist', '.keep'), '')
    },
  }
}

export default defineConfig({
  plugins: [react(), precompress()],
  html: { cspNonce: '__NONCE__' },
  build: { target: 'es2023', chunkSizeWarningLimit: 1200, reportCompressedSize: false },
})
