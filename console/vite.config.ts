import tailwind from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// The built console lands beside the page that the program shows without it.
export default defineConfig({
  plugins: [react(), tailwind()],
  build: { outDir: "dist/app", emptyOutDir: true, target: "es2022" },
  server: { proxy: { "/api": { target: "http://127.0.0.1:8470", changeOrigin: true } } },
});
