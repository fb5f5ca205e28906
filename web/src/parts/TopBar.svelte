<script lang="ts">
  import { live } from "../lib/live.svelte";
  let { user, leave, section }: { user: string; leave: () => void; section: string } = $props();

  let theme = $state(localStorage.getItem("theme") ?? "");
  $effect(() => {
    if (theme) document.documentElement.dataset.theme = theme;
    else delete document.documentElement.dataset.theme;
    localStorage.setItem("theme", theme);
  });
  function turn() {
    const dark = theme ? theme === "night" : matchMedia("(prefers-color-scheme: dark)").matches;
    theme = dark ? "day" : "night";
  }
  const links = [
    { to: "channels", text: "Channels" },
    { to: "library", text: "Library" },
    { to: "players", text: "Players" },
    { to: "events", text: "Events" },
  ];
</script>

<header class="border-base-300 bg-base-100 sticky top-0 z-20 border-b">
  <nav class="mx-auto flex h-12 max-w-[2200px] items-center gap-1 px-2 sm:px-5" aria-label="Main">
    <a href="#/channels" class="mr-1 flex shrink-0 items-center gap-2 font-semibold sm:mr-3 tracking-tight">
      <img src="/icon.svg" alt="" class="size-6 shrink-0" /><span class="hidden sm:inline">Metaplasis</span>
    </a>
    <div class="flex min-w-0 overflow-x-auto [scrollbar-width:none] sm:gap-1">
      {#each links as l (l.to)}
        <a
          href="#/{l.to}"
          class={[
            "rounded-field shrink-0 px-1 py-1.5 text-sm sm:px-3",
            section === l.to ? "bg-base-200 font-medium" : "hover:bg-base-200",
          ]}
          aria-current={section === l.to ? "page" : undefined}>{l.text}</a
        >
      {/each}
    </div>
    <span class="flex-1"></span>
    <span class="label-quiet flex items-center gap-1.5" role="status">
      <span class={["size-2 rounded-full", live.connected ? "bg-success" : "bg-warning animate-pulse"]}
      ></span>
      <span class="hidden sm:inline">{live.connected ? "Up to date" : "Reconnecting …"}</span>
    </span>
    <button class="btn btn-ghost btn-sm btn-square" onclick={turn} aria-label="Switch between light and dark">
      <svg viewBox="0 0 20 20" class="size-4" fill="currentColor" aria-hidden="true"
        ><path d="M10 2a8 8 0 1 0 0 16zm0 0a8 8 0 0 1 0 16" opacity=".35" /><path
          d="M10 2a8 8 0 1 0 0 16z"
        /></svg
      >
    </button>
    <a href="#/account" class="btn btn-ghost btn-sm max-sm:btn-square" aria-label="Account of {user}">
      <span class="hidden sm:inline">{user}</span>
      <svg viewBox="0 0 20 20" class="size-4 sm:hidden" fill="currentColor" aria-hidden="true"
        ><circle cx="10" cy="6.5" r="3.5" /><path d="M3 18a7 7 0 0 1 14 0z" /></svg
      >
    </a>
    <button class="btn btn-ghost btn-sm hidden px-3 whitespace-nowrap sm:inline-flex" onclick={leave}
      >Sign out</button
    >
  </nav>
</header>
