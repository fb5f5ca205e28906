<script lang="ts">
  import { session } from "../lib/session.svelte";
  import { live } from "../lib/live.svelte";
  import ChannelCard from "../parts/ChannelCard.svelte";
  import EventList from "../parts/EventList.svelte";
  const onAir = $derived(live.channels.filter((c) => c.state === "live" || c.state === "degraded").length);
</script>

<div class="mb-3 flex items-center gap-3">
  <h1 class="text-lg font-semibold">Channels</h1>
  {#if live.known && live.channels.length}<span class="label-quiet"
      >{onAir} of {live.channels.length} on air</span
    >{/if}
  {#if session.operates}<a href="#/new" class="btn btn-primary btn-sm ml-auto">New channel</a>{/if}
</div>

{#if !live.known}
  <div class="grid gap-3 lg:grid-cols-2" aria-busy="true">
    {#each [0, 1] as n (n)}<div class="skeleton h-44"></div>{/each}
  </div>
{:else if live.channels.length === 0}
  <div class="panel mx-auto max-w-xl px-6 py-12 text-center">
    <svg
      viewBox="0 0 120 60"
      class="text-primary mx-auto mb-4 h-16"
      fill="none"
      stroke="currentColor"
      aria-hidden="true"
    >
      <path d="M4 48q10-8 20 0t20 0 20 0 20 0 20 0 12 0" stroke-width="2" opacity=".5" />
      <path d="M60 8v30M60 12l22 24H60M56 16 42 36h14" stroke-width="2" stroke-linejoin="round" />
      <path d="M38 40h46l-6 8H46z" stroke-width="2" stroke-linejoin="round" />
    </svg>
    <h2 class="text-lg font-semibold">No channels yet</h2>
    <p class="label-quiet mx-auto mt-2 mb-5 max-w-sm">
      A channel is what you send to and what viewers watch. Create one, copy its server and key into your
      encoder, and it is on air.
    </p>
    {#if session.operates}<a href="#/new" class="btn btn-primary">Create the first channel</a>{/if}
  </div>
{:else}
  <div class="grid gap-3 lg:grid-cols-2 min-[1700px]:grid-cols-3">
    {#each live.channels as c (c.slug)}<ChannelCard channel={c} />{/each}
  </div>
  <section class="panel mt-4">
    <div class="flex items-center px-4 pt-3 pb-1">
      <h2 class="font-medium">Newest events</h2>
      <a href="#/events" class="link link-hover label-quiet ml-auto">All events</a>
    </div>
    <EventList events={live.events.slice(0, 6)} showChannel />
  </section>
{/if}
