<script lang="ts">
  // What is kept: recordings, a way to find a moment, and how far back viewers may go.
  import Operate from "./Operate.svelte";
  import { bytes, clock, day, span } from "../lib/format";
  import type { Channel, Status } from "../lib/types";
  import Fact from "./Fact.svelte";
  import Find from "./Find.svelte";
  import KeepingForm from "./KeepingForm.svelte";
  import Recordings from "./Recordings.svelte";
  let {
    channel,
    section,
    status,
    changed,
  }: { channel: Channel; section: string; status: Status; changed: () => void } = $props();
  const slug = $derived(channel.settings.slug);
  const kept = $derived(status.kept);
  const minutes = $derived(channel.settings.keeping.timeShiftMinutes ?? 0);
  const sections = [
    ["", "Recordings"],
    ["find", "Find and clip"],
    ["settings", "What is kept"],
  ];
</script>

<nav class="flex flex-wrap gap-1 px-3 pt-2" aria-label="Kept">
  {#each sections as [key, text] (key)}
    <a
      href="#/channels/{slug}/kept{key && `/${key}`}"
      aria-current={section === key ? "page" : undefined}
      class={["btn btn-xs", section === key ? "btn-primary" : "btn-ghost"]}>{text}</a
    >
  {/each}
</nav>
<dl class="grid grid-cols-2 gap-3 px-4 pt-3 sm:grid-cols-4" data-stock>
  <Fact label="Viewers may go back" value={minutes ? span(minutes * 60) : "not further than the playlist"} />
  <Fact
    label="Reaches back to"
    value={kept?.oldest ? `${clock(kept.oldest)}${day(kept.oldest)}` : "nothing is kept yet"}
  />
  <Fact
    label="Kept (held by recordings)"
    value={kept ? `${bytes(kept.bytes)} (${bytes(kept.held ?? 0)})` : "–"}
  />
  <Fact
    label="Disk per day"
    value={kept?.daily ? `${bytes(kept.daily)} written` : "–"}
    tone={kept?.error || kept?.lostNow ? "text-warning" : ""}
  />
</dl>
{#if section === "find"}
  <Operate><Find {channel} {status} /></Operate>
{:else if section === "settings"}
  <Operate><KeepingForm {channel} {changed} /></Operate>
{:else}
  <Recordings {channel} />
{/if}
