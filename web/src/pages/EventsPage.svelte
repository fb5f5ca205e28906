<script lang="ts">
  import { live } from "../lib/live.svelte";
  import EventList from "../parts/EventList.svelte";
  let level = $state("all");
  let channel = $state("");
  const channels = $derived([...new Set(live.events.map((e) => e.channel).filter(Boolean))].sort());
  const shown = $derived(
    live.events.filter((e) => (level === "all" || e.level !== "info") && (!channel || e.channel === channel)),
  );
</script>

<div class="mb-3 flex flex-wrap items-center gap-2">
  <h1 class="mr-auto text-lg font-semibold">Events</h1>
  <select class="select select-sm w-auto" bind:value={channel} aria-label="Channel">
    <option value="">All channels</option>
    {#each channels as c (c)}<option value={c}>{c}</option>{/each}
  </select>
  <select class="select select-sm w-auto" bind:value={level} aria-label="Level">
    <option value="all">Everything</option>
    <option value="problems">Problems only</option>
  </select>
</div>
<div class="panel"><EventList events={shown} showChannel /></div>
