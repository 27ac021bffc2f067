import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { gzipSync } from "node:zlib";
import tailwind from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig, type Plugin } from "vite";

// Packs scripts and styles once, when they are written, so that the service need not for every page.
const packed: Plugin = {
  name: "packed",
  apply: "build",
  writeBundle({ dir = "" }) {
    for (const name of readdirSync(dir, { recursive: true, encoding: "utf8" }))
      if (/\.(js|css)$/.test(name)) writeFileSync(join(dir, `${name}.gz`), gzipSync(readFileSync(join(dir, name)), { level: 9 }));
  },
};

// The built console lands beside the page that the program shows without it.
export default defineConfig({
  plugins: [react(), tailwind(), packed],
  build: { outDir: "dist/app", emptyOutDir: true, target: "es2022" },
  server: { proxy: { "/api": { target: "http://127.0.0.1:8470", changeOrigin: true } } },
});
