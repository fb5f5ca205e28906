<script lang="ts">
  import { call } from "../lib/api";
  import type { InputStatus } from "../lib/types";
  import { inputName, inputState } from "../lib/words";
  import Trouble from "./Trouble.svelte";
  let { slug, list }: { slug: string; list: InputStatus[] } = $props();
  let error = $state<unknown>();
  let busy = $state(false);
  const chosen = $derived(list.find((i) => i.chosen));

  /** choose puts an input on air by hand, or leaves it to their order. */
  async function choose(i: InputStatus | undefined) {
    busy = true;
    error = undefined;
    try {
      await call("PUT", `/channels/${slug}/input`, i ? { kind: i.kind, file: i.file } : { kind: "" });
    } catch (e) {
      error = e;
    }
    busy = false;
  }
</script>

<div class="mb-3" data-inputs>
  <div class="flex flex-wrap items-center gap-2" role="group" aria-label="Inputs, the preferred one first">
    <span class="label-quiet">Inputs</span>
    {#each list as i (i.kind + i.file)}
      <button
        class={["btn btn-xs font-normal", i.onAir && "btn-success btn-soft"]}
        aria-pressed={!!i.chosen}
        disabled={busy}
        title={i.chosen ? "Chosen by hand" : "Put on air by hand"}
        onclick={() => choose(i)}>{inputName(i)}: {inputState(i)}{i.chosen ? " ✓" : ""}</button
      >
    {/each}
    {#if chosen}
      <button class="btn btn-ghost btn-xs" disabled={busy} onclick={() => choose(undefined)}
        >By order again</button
      >
    {/if}
  </div>
  {#if chosen}<p class="label-quiet mt-1">
      Chosen by hand: {inputName(chosen)}
      {chosen.onAir ? "is on air." : "goes on air as soon as it has something."}
    </p>{/if}
  <Trouble {error} />
</div>
