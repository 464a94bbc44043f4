import tailwind from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react(), tailwind()],
  build: { target: "es2022", chunkSizeWarningLimit: 800 },
  test: {
    environment: "jsdom",
    include: ["src/**/*.test.{ts,tsx}"],
    setupFiles: "src/test/setup.ts",
    // One window for all files: to make one for each takes several times as long as the tests.
    isolate: false,
    // As with src/test/setup.ts: a slow machine is no failure.
    testTimeout: 60_000,
    hookTimeout: 60_000,
  },
});
