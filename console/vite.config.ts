/// <reference types="vitest/config" />
import { defineConfig } from "vite";
import react from "@vitejs/plugin-react";

export default defineConfig({
  plugins: [react()],
  html: { cspNonce: "__CSP_NONCE__" },
  build: { target: "es2022", assetsInlineLimit: 0, chunkSizeWarningLimit: 1200 },
  server: { proxy: { "/api": "http://127.0.0.1:8470" } },
  test: { environment: "node", testTimeout: 300_000, hookTimeout: 300_000, include: ["src/**/*.test.{ts,tsx}"] },
});
