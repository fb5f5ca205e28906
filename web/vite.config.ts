import { svelte } from "@sveltejs/vite-plugin-svelte";
import tailwindcss from "@tailwindcss/vite";
import { defineConfig } from "vitest/config";

// Two pages: the console, and the player that viewers and other sites open.
export default defineConfig({
  plugins: [svelte(), tailwindcss()],
  build: {
    rollupOptions: { input: { index: "index.html", watch: "watch.html" } },
    chunkSizeWarningLimit: 900,
    emptyOutDir: true,
  },
  server: { proxy: { "/api": "http://127.0.0.1:8780", "/media": "http://127.0.0.1:8780" } },
  test: { include: ["src/**/*.test.ts"] },
});
