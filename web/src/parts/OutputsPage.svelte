<script lang="ts">
  // Where it goes: what viewers play, what receivers fetch, and what is carried onward to others.
  import Operate from "./Operate.svelte";
  import type { Channel, Status } from "../lib/types";
  import type { Way } from "../lib/ways";
  import Addresses from "./Addresses.svelte";
  import Embed from "./Embed.svelte";
  import Receivers from "./Receivers.svelte";
  import Relays from "./Relays.svelte";
  let {
    channel,
    section,
    status,
    way,
    play,
  }: { channel: Channel; section: string; status: Status; way: Way; play: (w: Way) => void } = $props();
  const slug = $derived(channel.settings.slug);
  const sections = [
    ["", "Formats"],
    ["embed", "Player"],
    ["relays", "Relays"],
    ["receivers", "Receivers"],
  ];
</script>

<nav class="flex flex-wrap gap-1 px-3 pt-2" aria-label="Outputs">
  {#each sections as [key, text] (key)}
    <a
      href="#/channels/{slug}/addresses{key && `/${key}`}"
      aria-current={section === key ? "page" : undefined}
      class={["btn btn-xs", section === key ? "btn-primary" : "btn-ghost"]}>{text}</a
    >
  {/each}
</nav>
{#if section === "relays"}
  <Operate><Relays {slug} {status} /></Operate>
{:else if section === "embed"}
  <Embed {slug} />
{:else if section === "receivers"}
  <Receivers {channel} {status} />
{:else}
  <Addresses addresses={channel.addresses} settings={channel.settings} {way} {play} />
{/if}
