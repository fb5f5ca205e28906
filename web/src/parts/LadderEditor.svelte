<script lang="ts">
  import { call } from "../lib/api";
  import { nextRung } from "../lib/ladder";
  import type { Codec, Governor, NewLadder, Rung, Status } from "../lib/types";
  import Trouble from "./Trouble.svelte";
  let { slug, status, changed }: { slug: string; status: Status; changed: () => void } = $props();
  let revision = $state(0); // of the settings that this ladder is from

  let planned = $state(true);
  let governor = $state<Governor>("");
  let rungs = $state<Rung[]>([]);
  let known = $state(false);
  let dirty = $state(false);
  let busy = $state(false);
  let more = $state(false); // show peak and buffer instead of size and bitrate
  let said = $state("");
  let error = $state<unknown>();

  function take(l: NewLadder) {
    planned = l.planned;
    governor = l.governor ?? "";
    revision = l.revision ?? 0;
    rungs = (l.rungs ?? []).map((r) => ({ ...r }));
    known = true;
    dirty = false;
  }
  $effect(() => {
    // A planned ladder changes with the source; one that is being edited must not.
    void status.rungs.length;
    if (!dirty) void call<NewLadder>("GET", `/channels/${slug}/ladder`).then(take, (e) => (error = e));
  });

  function touch() {
    dirty = true;
    planned = false;
    said = "";
  }
  async function apply(l: NewLadder) {
    busy = true;
    error = undefined;
    try {
      take(await call<NewLadder>("PUT", `/channels/${slug}/ladder`, { governor, ...l, revision }));
      said = "Takes effect at the next segment.";
      changed();
    } catch (e) {
      error = e;
    }
    busy = false;
  }
  async function propose() {
    const l = await call<NewLadder>("GET", `/channels/${slug}/ladder/plan`);
    rungs = l.rungs ?? [];
    touch();
  }
  /** The codecs that pictures can be coded in; none is the usual one. */
  const codecs = [
    { id: "", label: "H.264" },
    { id: "hevc", label: "HEVC" },
    { id: "vp9", label: "VP9" },
  ];
  const source = $derived(status.feed?.tracks.find((t) => t.kind === 1));
  /** add offers the next useful size below what there is, never one above the source. */
  function add() {
    const next = nextRung(rungs, source);
    rungs.push(next);
    touch();
  }
  /** madeAs says what a rung really is, where it asks for more than the source has. */
  function madeAs(r: Rung): string {
    const made = status.renditions.find((o) => o.name === r.name && !o.retired);
    if (r.source || !source || !made?.height || !made.width) return "";
    const larger = (r.height ?? 0) > made.height || (r.width ?? 0) > made.width;
    return larger ? `made as ${made.width}×${made.height}: the source has no more` : "";
  }
  const encoded = $derived(rungs.filter((r) => r.on && !r.source).length);
</script>

{#snippet number(
  r: Rung,
  key: "width" | "height" | "bitrate" | "peak" | "buffer" | "effort" | "audioBitrate",
  unit: number,
  empty: string,
)}
  <input
    type="number"
    class={["input input-xs", key === "audioBitrate" ? "w-20" : "w-16"]}
    value={r[key] ? Math.round(r[key] / unit) : ""}
    placeholder={empty}
    oninput={(e) => {
      r[key] = Number(e.currentTarget.value) * unit;
      if (key === "bitrate") r.peak = 0; // follows again
      touch();
    }}
    aria-label="{r.name} {key}"
  />
{/snippet}

<datalist id="rates"
  ><option value="half"></option><option value="25"></option><option value="30"></option></datalist
>

<div class="p-3">
  <div class="mb-2 flex flex-wrap items-center gap-2">
    <p class="label-quiet mr-auto">
      {planned ? "Planned from the source." : "Written by hand."}
      {encoded} encoded{rungs.some((r) => r.on && r.source) ? "; the source leads" : ""}.
    </p>
    <button class="btn btn-xs" aria-pressed={more} onclick={() => (more = !more)}
      >{more ? "Size and bitrate" : "Codec, peak and buffer"}</button
    >
    <button class="btn btn-xs" onclick={propose}>Propose</button>
    <button class="btn btn-xs" onclick={add}>Add rung</button>
  </div>
  {#if !known && !error}
    <div class="skeleton h-40"></div>
  {:else if rungs.length === 0}
    <p class="label-quiet rounded-box bg-base-200 px-4 py-6 text-center">
      The ladder will be planned from the first source that connects.
    </p>
  {:else}
    <div class="overflow-x-auto">
      <table class="table-xs table [&_td]:px-1 [&_th]:px-1">
        <thead>
          <tr>
            <th>On</th><th>Name</th>
            {#if more}<th>Codec</th><th title="pictures a second">Frames</th><th>Peak kbit/s</th><th
                >Buffer ms</th
              >{:else}<th>Size</th><th>kbit/s</th>{/if}
            <th title="1: least processor time, 9: best picture">Effort</th>
            <th>Sound kbit/s</th><th><span class="sr-only">Remove</span></th>
          </tr>
        </thead>
        <tbody>
          {#each rungs as r, i (i)}
            <tr class={[!r.on && "opacity-60"]} data-rung={r.name}>
              <td
                ><input
                  type="checkbox"
                  class="toggle toggle-xs toggle-primary"
                  bind:checked={r.on}
                  onchange={touch}
                  aria-label="{r.name} on"
                /></td
              >
              <td
                ><input
                  class="input input-xs w-20"
                  bind:value={r.name}
                  oninput={touch}
                  aria-label="Name"
                /></td
              >
              {#if r.source}
                <td colspan={more ? 5 : 3} class="label-quiet">the source, untouched</td>
              {:else if more}
                <td
                  ><select
                    class="select select-xs w-20"
                    value={r.codec ?? ""}
                    onchange={(e) => {
                      r.codec = (e.currentTarget.value as Codec) || undefined;
                      touch();
                    }}
                    aria-label="{r.name} codec"
                  >
                    {#each codecs as c (c.id)}<option value={c.id}>{c.label}</option>{/each}
                  </select></td
                >
                <td
                  ><input
                    class="input input-xs w-20"
                    list="rates"
                    value={r.frameRate ?? ""}
                    placeholder="source"
                    oninput={(e) => {
                      r.frameRate = e.currentTarget.value.trim() || undefined;
                      touch();
                    }}
                    aria-label="{r.name} frame rate"
                  /></td
                >
                <td>{@render number(r, "peak", 1000, "1.2 ×")}</td>
                <td>{@render number(r, "buffer", 1, "1000")}</td>
                <td>{@render number(r, "effort", 1, "2")}</td>
              {:else}
                <td class="whitespace-nowrap"
                  >{@render number(r, "width", 1, "auto")} × {@render number(r, "height", 1, "auto")}
                  {#if madeAs(r)}<p class="label-quiet whitespace-normal">{madeAs(r)}</p>{/if}</td
                >
                <td>{@render number(r, "bitrate", 1000, "")}</td>
                <td>{@render number(r, "effort", 1, "2")}</td>
              {/if}
              <td class="whitespace-nowrap"
                >{@render number(r, "audioBitrate", 1000, "source")}
                {#if more && r.audioBitrate}
                  <select
                    class="select select-xs w-20"
                    value={r.audioCodec ?? ""}
                    onchange={(e) => {
                      r.audioCodec = (e.currentTarget.value as Codec) || undefined;
                      touch();
                    }}
                    aria-label="{r.name} sound codec"
                  >
                    <option value="">AAC</option><option value="opus">Opus</option>
                  </select>
                  <select
                    class="select select-xs w-20"
                    value={r.audioChannels ?? 0}
                    onchange={(e) => {
                      r.audioChannels = Number(e.currentTarget.value) || undefined;
                      touch();
                    }}
                    aria-label="{r.name} channels"
                  >
                    <option value={0}>as it is</option><option value={1}>mono</option><option value={2}
                      >stereo</option
                    >
                  </select>
                {/if}</td
              >
              <td
                ><button
                  class="btn btn-ghost btn-xs px-1"
                  onclick={() => (rungs.splice(i, 1), touch())}
                  aria-label="Remove {r.name}">✕</button
                ></td
              >
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {/if}
  <div class="mt-2 grid gap-2">
    <label class="flex flex-wrap items-center gap-2 text-sm">
      <span>When the machine is short of processor time</span>
      <select
        class="select select-xs w-64"
        bind:value={governor}
        disabled={busy}
        onchange={() => dirty || apply({ planned, rungs: planned ? [] : $state.snapshot(rungs) })}
        aria-label="Governor"
      >
        <option value="">leave out pictures</option>
        <option value="lower">lower effort, then rate, then rungs</option>
        <option value="raise">the same, and raise effort when it is idle</option>
      </select>
    </label>
    {#if status.governor?.steps.length}
      <ul class="rounded-box bg-base-200 px-3 py-2 text-sm" data-governor>
        {#each status.governor.steps as s (s.rung + s.kind)}
          <li>
            {s.kind === "effort"
              ? `${s.rung} is coded with effort ${s.to} instead of ${s.from}.`
              : s.kind === "half-rate"
                ? `${s.rung} has every second picture.`
                : `${s.rung} is off.`}
          </li>
        {/each}
      </ul>
    {/if}
    <Trouble {error} />
    <div class="flex flex-wrap items-center gap-2">
      <button
        class="btn btn-primary btn-sm"
        disabled={!dirty || busy}
        onclick={() => apply({ planned: false, rungs: $state.snapshot(rungs) })}
        >Apply at the next segment</button
      >
      {#if dirty}<button class="btn btn-ghost btn-sm" onclick={() => ((dirty = false), (error = undefined))}
          >Discard</button
        >{/if}
      {#if !planned}<button
          class="btn btn-ghost btn-sm"
          disabled={busy}
          onclick={() => apply({ planned: true, rungs: [] })}>Back to the planned ladder</button
        >{/if}
      <span class="label-quiet" role="status">{said}</span>
    </div>
  </div>
</div>
