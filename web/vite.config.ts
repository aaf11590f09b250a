import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { constants, gzipSync } from "node:zlib";
import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

// sonner adds a style without a nonce, which the content security policy
// refuses; main.tsx imports the same style as a file.
const withoutInjectedStyle = {
  name: "without-injected-style",
  transform(code: string, id: string) {
    return id.includes("/sonner/dist/") ? code.replace(/^__insertCSS\(.*\);$/m, "") : undefined;
  },
};

// What the service serves to those who take it compressed is made once, here.
const compressed = {
  name: "compressed",
  apply: "build" as const,
  closeBundle() {
    const dir = new URL("../internal/door/console/dist/assets/", import.meta.url);
    for (const name of readdirSync(dir).filter((n) => /\.(js|css|svg)$/.test(n))) {
      const packed = gzipSync(readFileSync(new URL(name, dir)), { level: constants.Z_BEST_COMPRESSION });
      writeFileSync(new URL(name + ".gz", dir), packed);
    }
  },
};

export default defineConfig({
  plugins: [react(), tailwindcss(), withoutInjectedStyle, compressed],
  html: { cspNonce: "ferry-csp-nonce" },
  build: { outDir: "../internal/door/console/dist", emptyOutDir: true, assetsInlineLimit: 0, chunkSizeWarningLimit: 700 },
  server: { proxy: { "/api": "http://127.0.0.1:14720" } },
  test: { environment: "jsdom" },
});
