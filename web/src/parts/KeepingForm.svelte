<script lang="ts">
  // How far back viewers may go, and whether all that is on air is recorded.
  import { call } from "../lib/api";
  import type { Channel } from "../lib/types";
  import Trouble from "./Trouble.svelte";
  let { channel, changed }: { channel: Channel; changed: () => void } = $props();
  // The form is filled once: what is typed must not be replaced by an update.
  // svelte-ignore state_referenced_locally
  const k = $state({ ...$state.snapshot(channel.settings.keeping) });
  let error = $state<unknown>();
  let said = $state("");
  async function save(e: SubmitEvent) {
    e.preventDefault();
    error = undefined;
    said = "";
    try {
      await call("PATCH", `/channels/${channel.settings.slug}`, {
        keeping: {
          timeShiftMinutes: k.timeShiftMinutes || 0,
          timeShiftMB: k.timeShiftMB || 0,
          record: k.record ?? false,
          recordHours: k.recordHours || 0,
          recordDays: k.recordDays || 0,
        },
      });
      said = "Takes effect at once. What is kept already stays as long as the new settings let it.";
      changed();
    } catch (e) {
      error = e;
    }
  }
  const steps = [
    [0, "Off"],
    [30, "30 min"],
    [120, "2 h"],
    [720, "12 h"],
    [1440, "1 day"],
    [10080, "7 days"],
  ] as const;
</script>

<form class="grid gap-5 p-4" onsubmit={save}>
  <fieldset class="grid gap-3">
    <legend class="mb-2 text-sm font-semibold">Time-shift</legend>
    <div class="join flex-wrap" role="group" aria-label="How far back viewers may go">
      {#each steps as [minutes, text] (minutes)}
        <button
          type="button"
          class={["btn btn-sm join-item", (k.timeShiftMinutes ?? 0) === minutes && "btn-primary"]}
          aria-pressed={(k.timeShiftMinutes ?? 0) === minutes}
          onclick={() => (k.timeShiftMinutes = minutes)}>{text}</button
        >
      {/each}
    </div>
    <div class="grid grid-cols-2 gap-3 sm:grid-cols-4">
      <div>
        <label class="label-quiet mb-1 block" for="tm">Minutes</label>
        <input id="tm" type="number" min="0" class="input input-sm w-full" bind:value={k.timeShiftMinutes} />
      </div>
      <div>
        <label class="label-quiet mb-1 block" for="tb">At most, MB (0: no limit)</label>
        <input id="tb" type="number" min="0" class="input input-sm w-full" bind:value={k.timeShiftMB} />
      </div>
    </div>
    <p class="label-quiet">
      Viewers get a seek bar of this length, and addresses with <code>?from=</code>. The oldest media is
      deleted first, but never what a recording retains.
    </p>
  </fieldset>
  <fieldset class="grid gap-3">
    <legend class="mb-2 text-sm font-semibold">Record always</legend>
    <label class="flex items-start gap-3">
      <input type="checkbox" class="toggle toggle-sm mt-0.5" bind:checked={k.record} />
      <span
        ><span class="text-sm">Record everything on air</span><br /><span class="label-quiet"
          >The same segments that viewers get; nothing is re-encoded.</span
        ></span
      >
    </label>
    <div class="grid grid-cols-2 gap-3 sm:grid-cols-4">
      <div>
        <label class="label-quiet mb-1 block" for="rh">New recording every, hours</label>
        <input
          id="rh"
          type="number"
          min="0"
          placeholder="24"
          class="input input-sm w-full"
          bind:value={k.recordHours}
        />
      </div>
      <div>
        <label class="label-quiet mb-1 block" for="rd">Retention, days (0: forever)</label>
        <input id="rd" type="number" min="0" class="input input-sm w-full" bind:value={k.recordDays} />
      </div>
    </div>
  </fieldset>
  <Trouble {error} />
  {#if said}<p class="text-success text-sm" role="status">{said}</p>{/if}
  <div><button class="btn btn-sm btn-primary">Save</button></div>
</form>
