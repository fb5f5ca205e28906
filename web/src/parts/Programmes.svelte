<script lang="ts">
  // The programmes of a transport stream: which one feeds this channel, and a channel for each other one.
  import { call } from "../lib/api";
  import { programmeName, programmeTracks } from "../lib/input";
  import type { Programme } from "../lib/types";
  import Trouble from "./Trouble.svelte";
  let {
    slug,
    list,
    here,
    pick,
  }: { slug: string; list: Programme[]; here: number; pick: (number: number) => void } = $props();
  let error = $state<unknown>();

  async function make(p: Programme) {
    error = undefined;
    const name = `${slug}-${p.number}`;
    try {
      await call("POST", "/channels", {
        slug: name,
        title: p.name || `${slug}, programme ${p.number}`,
        inputs: [{ kind: "programme", channel: slug, programme: String(p.number) }],
      });
      location.hash = `/channels/${name}`;
    } catch (e) {
      error = e;
    }
  }
</script>

<table class="table-xs mt-2 table" data-programmes>
  <thead><tr><th>Programme</th><th>Tracks</th><th><span class="sr-only">Use</span></th></tr></thead>
  <tbody>
    {#each list as p (p.number)}
      <tr class={p.number === here ? "bg-base-200" : ""}>
        <td class="font-medium whitespace-nowrap">{programmeName(p)}</td>
        <td
          >{programmeTracks(p)}{#if p.scrambled}<span class="text-error"> · scrambled</span>{/if}</td
        >
        <td class="text-right whitespace-nowrap">
          {#if p.number === here}
            <span class="label-quiet">feeds this channel</span>
          {:else}
            <button class="btn btn-ghost btn-xs" onclick={() => pick(p.number)}>Use here</button>
            <button class="btn btn-xs" onclick={() => make(p)}>Make a channel</button>
          {/if}
        </td>
      </tr>
    {/each}
  </tbody>
</table>
<Trouble {error} />
