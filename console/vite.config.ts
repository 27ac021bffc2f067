import { gzipSync } from "node:zlib";
import tailwind from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig, type Plugin } from "vite";

// Packs scripts and styles once, when they are built, so that the service need not for every page.
const packed: Plugin = {
  name: "packed",
  apply: "build",
  generateBundle(_, bundle) {
    for (const file of Object.values(bundle)) {
      const source = file.type === "chunk" ? file.code : file.source;
      if (/\.(js|css)$/.test(file.fileName))
        this.emitFile({ type: "asset", fileName: `${file.fileName}.gz`, source: gzipSync(source, { level: 9 }) });
    }
  },
};

// The built console lands beside the page that the program shows without it.
export default defineConfig({
  plugins: [react(), tailwind(), packed],
  build: { outDir: "dist/app", emptyOutDir: true, target: "es2022" },
  server: { proxy: { "/api": { target: "http://127.0.0.1:8470", changeOrigin: true } } },
});
