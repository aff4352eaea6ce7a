import { defineConfig } from "vite";

// The built files are served by the service itself, from its own package folder.
export default defineConfig({
  esbuild: { jsx: "automatic" },
  build: {
    outDir: "../src/gleaner/service/console",
    emptyOutDir: true,
    target: "es2022",
    chunkSizeWarningLimit: 600,
  },
});
