import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  // Nothing is inlined: the service's own policy refuses fonts and pictures that are.
  build: { outDir: "../src/plumcrate/api/static", emptyOutDir: true, chunkSizeWarningLimit: 450, assetsInlineLimit: 0 },
  server: { proxy: { "/api": "http://127.0.0.1:8020" } },
});
