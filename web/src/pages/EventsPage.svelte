<script lang="ts">
  import { live } from "../lib/live.svelte";
  import EventList from "../parts/EventList.svelte";
  import Hooks from "../parts/Hooks.svelte";
  let { section, role }: { section: string; role: string } = $props();
  let level = $state("all");
  let channel = $state("");
  const channels = $derived([...new Set(live.events.map((e) => e.channel).filter(Boolean))].sort());
  const shown = $derived(
    live.events.filter((e) => (level === "all" || e.level !== "info") && (!channel || e.channel === channel)),
  );
</script>

<div class="mb-3 flex flex-wrap items-center gap-2">
  <h1 class="text-lg font-semibold">Events</h1>
  <a class="btn btn-xs" href="/api/v1/export/events.csv?from=365%20days%20ago" download>Export</a>
  {#if role === "administer"}
    <nav class="ml-2 flex gap-1" aria-label="Events">
      {#each [["", "Log"], ["hooks", "Webhooks"]] as [key, text] (key)}
        <a
          href="#/events{key && `/${key}`}"
          aria-current={section === key ? "page" : undefined}
          class={["btn btn-xs", section === key ? "btn-primary" : "btn-ghost"]}>{text}</a
        >
      {/each}
    </nav>
  {/if}
  <span class="flex-1"></span>
  {#if section !== "hooks"}
    <select class="select select-sm w-auto" bind:value={channel} aria-label="Channel">
      <option value="">All channels</option>
      {#each channels as c (c)}<option value={c}>{c}</option>{/each}
    </select>
    <select class="select select-sm w-auto" bind:value={level} aria-label="Level">
      <option value="all">Everything</option>
      <option value="problems">Problems only</option>
    </select>
  {/if}
</div>
{#if section === "hooks"}
  <Hooks />
{:else}
  <div class="panel"><EventList events={shown} showChannel /></div>
{/if}
