import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  // The service puts a nonce of its own into each response.
  html: { cspNonce: "{{csp-nonce}}" },
  build: { assetsInlineLimit: 0, chunkSizeWarningLimit: 1200 },
  server: { proxy: { "/api": "http://127.0.0.1:8440" } },
});
