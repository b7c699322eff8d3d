import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { brotliCompressSync, constants, gzipSync } from "node:zlib";
import react from "@vitejs/plugin-react";
import tailwind from "@tailwindcss/vite";
import { defineConfig, type Plugin } from "vite";

const out = "../internal/manage/dist/app";

/** packed puts beside each file what it is when it is packed, so that the service packs nothing by itself. */
const packed: Plugin = {
  name: "packed",
  apply: "build",
  writeBundle({ dir = out }) {
    for (const name of readdirSync(`${dir}/assets`)) {
      if (!/\.(js|css)$/.test(name)) continue;
      const raw = readFileSync(`${dir}/assets/${name}`);
      writeFileSync(`${dir}/assets/${name}.gz`, gzipSync(raw, { level: 9 }));
      writeFileSync(`${dir}/assets/${name}.br`, brotliCompressSync(raw, { params: { [constants.BROTLI_PARAM_QUALITY]: 11 } }));
    }
  },
};

export default defineConfig({
  plugins: [react(), tailwind(), packed],
  // The service embeds what is built and serves it.
  build: { outDir: out, emptyOutDir: true, target: "es2022", rolldownOptions: { checks: { pluginTimings: false } } },
  server: { proxy: { "/api": "http://127.0.0.1:8090" }, fs: { allow: [".."] } },
});
