import { svelte } from "@sveltejs/vite-plugin-svelte";
import { svelteTesting } from "@testing-library/svelte/vite";
import tailwindcss from "@tailwindcss/vite";
import { defineConfig } from "vitest/config";

// Three pages: the console, the player that viewers and other sites open, and one that contributes from a browser.
export default defineConfig({
  plugins: [svelte(), tailwindcss(), svelteTesting()],
  build: {
    rollupOptions: {
      input: {
        index: "index.html",
        watch: "watch.html",
        contribute: "contribute.html",
        player: "src/player/index.ts",
      },
      // The player's module has one address for good, for pages of others.
      output: { entryFileNames: (c) => (c.name === "player" ? "player.js" : "assets/[name]-[hash].js") },
    },
    chunkSizeWarningLimit: 900,
    emptyOutDir: true,
  },
  server: { proxy: { "/api": "http://127.0.0.1:8780", "/media": "http://127.0.0.1:8780" } },
  test: { include: ["src/**/*.test.ts"] },
});
