<script lang="ts">
  // Addresses at which players, decoders and other servers fetch the channel.
  import type { Channel, Status } from "../lib/types";
  import CopyField from "./CopyField.svelte";
  let { channel, status }: { channel: Channel; status: Status } = $props();
  const rungs = $derived(status.rungs.filter((r) => r.on).map((r) => r.name));
  let rung = $state("");
  const list = $derived(channel.addresses.receivers);
</script>

<div class="grid gap-4 p-4" data-receivers>
  <label class="flex items-center gap-2 text-sm">
    <span class="label-quiet">What they get</span>
    <select class="select select-sm w-auto" bind:value={rung} aria-label="Rung">
      <option value="">the source as it came</option>
      {#each rungs as r (r)}<option value={r}>{r}</option>{/each}
    </select>
  </label>
  {#each list as r (r.protocol)}
    <CopyField
      label="{r.protocol}{status.viewers?.[r.way] ? `, ${status.viewers[r.way]} now` : ''}"
      value={r.url
        .replace("{rung}", rung || r.source)
        .replace("//KEY", "/KEY")
        .replace(/\/$/, "")}
      hint={r.hint}
    />
  {/each}
</div>
