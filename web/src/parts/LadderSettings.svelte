<script lang="ts">
  // What holds for the whole ladder: what gives way when the machine is short, and what interlaced pictures become.
  import type { Governor, Interlaced } from "../lib/types";

  let {
    governor = $bindable(),
    priority = $bindable(),
    interlaced = $bindable(),
    busy,
    changed,
  }: {
    governor: Governor;
    priority: number; // 1 to 9, 0 for the usual one
    interlaced: Interlaced;
    busy: boolean;
    changed: () => void;
  } = $props();
</script>

<div class="flex flex-wrap items-center gap-x-4 gap-y-2 text-sm">
  <label class="flex flex-wrap items-center gap-2">
    <span>When the machine is short</span>
    <select
      class="select select-xs w-64"
      bind:value={governor}
      disabled={busy}
      onchange={changed}
      aria-label="Governor"
    >
      <option value="">leave out pictures</option>
      <option value="lower">lower effort, then rate, then rungs</option>
      <option value="raise">the same, and raise effort when it is idle</option>
    </select>
  </label>
  <label class="flex items-center gap-2" title="Channels of a lower priority give way first">
    <span>Priority</span>
    <select
      class="select select-xs w-16"
      value={String(priority || 5)}
      disabled={busy}
      onchange={(e) => {
        priority = Number(e.currentTarget.value);
        changed();
      }}
      aria-label="Priority"
    >
      {#each [9, 8, 7, 6, 5, 4, 3, 2, 1] as n (n)}<option value={String(n)}>{n}</option>{/each}
    </select>
  </label>
  <label class="flex items-center gap-2">
    <span>Interlaced pictures</span>
    <select
      class="select select-xs w-48"
      bind:value={interlaced}
      disabled={busy}
      onchange={changed}
      aria-label="Interlaced"
    >
      <option value="">a picture of each field</option>
      <option value="frames">a picture of two fields</option>
      <option value="bob">each field, interpolated</option>
      <option value="weave">as they are</option>
    </select>
  </label>
</div>
