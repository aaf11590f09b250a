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

export default defineConfig({
  plugins: [react(), tailwindcss(), withoutInjectedStyle],
  html: { cspNonce: "ferry-csp-nonce" },
  build: { outDir: "../internal/console/dist", emptyOutDir: true, assetsInlineLimit: 0, chunkSizeWarningLimit: 700 },
  server: { proxy: { "/api": "http://127.0.0.1:7350" } },
  test: { environment: "jsdom" },
});
