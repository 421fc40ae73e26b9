import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  // Nothing is inlined: the service's own policy refuses fonts and pictures that are.
  build: {
    outDir: "../src/plumcrate/api/static",
    emptyOutDir: true,
    chunkSizeWarningLimit: 450,
    assetsInlineLimit: 0,
  },
  // A busy machine is slow: what hangs is found all the same, only later.
  test: { testTimeout: 120_000, hookTimeout: 120_000, setupFiles: ["src/patience.ts"] },
  server: { proxy: { "/api": "http://127.0.0.1:8020" } },
});
