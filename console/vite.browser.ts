import { defineConfig } from "vite";

// The client for browsers, and the hook on it, as the service embeds and serves them.
export default defineConfig({
  build: {
    outDir: "../internal/edge/dist/browser",
    emptyOutDir: true,
    target: "es2022",
    minify: true,
    lib: { entry: { greenlever: "browser/greenlever.ts", "greenlever-react": "browser/react.ts" }, formats: ["es"], fileName: (_, name) => `${name}.js` },
    rollupOptions: { external: ["react"] },
  },
});
