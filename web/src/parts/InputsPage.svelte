<script lang="ts">
  // What comes in: the inputs in their order, how senders reach them, and the line of the one on air.
  import type { Channel, Status } from "../lib/types";
  import InputList from "./InputList.svelte";
  import LineHealth from "./LineHealth.svelte";
  import Sender from "./Sender.svelte";
  let {
    channel,
    section,
    status,
    changed,
  }: { channel: Channel; section: string; status: Status; changed: () => void } = $props();
  const slug = $derived(channel.settings.slug);
  const sections = [
    ["", "Inputs"],
    ["senders", "Senders and keys"],
    ["line", "Line"],
  ];
</script>

<nav class="flex flex-wrap gap-1 px-3 pt-2" aria-label="Inputs">
  {#each sections as [key, text] (key)}
    <a
      href="#/channels/{slug}/inputs{key && `/${key}`}"
      aria-current={section === key ? "page" : undefined}
      class={["btn btn-xs", section === key ? "btn-primary" : "btn-ghost"]}>{text}</a
    >
  {/each}
</nav>
{#if section === "senders"}
  <Sender {channel} {changed} />
{:else if section === "line"}
  <LineHealth {slug} {status} />
{:else}
  <InputList {channel} {status} {changed} />
{/if}
