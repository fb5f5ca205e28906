<script lang="ts">
  // What comes in: the inputs in their order, how senders reach them, and the line of the one on air.
  import Operate from "./Operate.svelte";
  import type { Channel, Status } from "../lib/types";
  import InputList from "./InputList.svelte";
  import LineHealth from "./LineHealth.svelte";
  import { call } from "../lib/api";
  import { bare } from "../lib/input";
  import type { Input, Source } from "../lib/types";
  import Sender from "./Sender.svelte";
  import Sources from "./Sources.svelte";
  import Trouble from "./Trouble.svelte";
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
    ["network", "Network"],
  ];
  const inputs = $derived(channel.settings.inputs ?? status.inputs.map(bare));
  let busy = $state(false);
  let error = $state<unknown>();
  /** take adds a source behind the channel's inputs. */
  async function take(s: Source) {
    busy = true;
    error = undefined;
    const next: Input[] = [...inputs, { kind: "studio", name: s.name }];
    try {
      await call("PATCH", `/channels/${slug}`, { inputs: next });
      changed();
    } catch (e) {
      error = e;
    }
    busy = false;
  }
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
  <Operate><Sender {channel} {changed} /></Operate>
{:else if section === "line"}
  <LineHealth {slug} {status} />
{:else if section === "network"}
  <div class="grid gap-3 p-4">
    <p class="label-quiet">
      What is announced on the studio’s network. A source that is used becomes the last of the channel’s
      inputs.
    </p>
    <Sources
      taken={inputs.filter((i) => i.kind === "studio").map((i) => i.name ?? "")}
      {busy}
      pick={take}
      verb="Use here"
    />
    <Trouble {error} />
  </div>
{:else}
  <Operate><InputList {channel} {status} {changed} /></Operate>
{/if}
