import { vitePreprocess } from "@sveltejs/vite-plugin-svelte";

export default {
  preprocess: vitePreprocess(),
  vitePlugin: {
    // The player is an element of its own, for pages of others too.
    dynamicCompileOptions: ({ filename }) =>
      filename.includes("/src/player/") ? { customElement: true } : undefined,
  },
};
