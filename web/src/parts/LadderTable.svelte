<script lang="ts">
  // The rungs of a ladder that is being edited, one row each.
  import { codecs, others, soundOnly } from "../lib/rung";
  import type { Codec, Image, Rung, Status } from "../lib/types";
  import RungForm from "./RungForm.svelte";

  let {
    rungs = $bindable(),
    status,
    images,
    touch,
    remove,
    addImage,
  }: {
    rungs: Rung[];
    status: Status;
    images: Image[];
    touch: () => void; // something was edited
    remove: (i: number) => void;
    addImage: (file: File) => Promise<string | undefined>;
  } = $props();
  let open = $state(-1); // the rung whose settings are all shown
  const source = $derived(status.feed?.tracks.find((t) => t.kind === 1));

  /** madeAs says what a rung really is, where it asks for more than the source has. */
  function madeAs(r: Rung): string {
    const made = status.renditions.find((o) => o.name === r.name && !o.retired);
    if (r.source || !source || !made?.height || !made.width) return "";
    const larger = (r.height ?? 0) > made.height || (r.width ?? 0) > made.width;
    return larger ? `made as ${made.width}×${made.height}: the source has no more` : "";
  }
  /** readyMade says whether the sender makes a rung's pictures now. */
  function readyMade(r: Rung): boolean {
    return status.renditions.some((o) => o.name === r.name && o.ready);
  }
  const advice = (r: Rung) => {
    const to = status.advice?.[r.name];
    return to && to !== (r.effort || 2) ? to : undefined;
  };
</script>

{#snippet number(
  r: Rung,
  key: "width" | "height" | "bitrate" | "effort" | "audioBitrate",
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

<div class="overflow-x-auto">
  <table class="table-xs table [&_td]:px-1 [&_th]:px-1">
    <thead>
      <tr>
        <th>On</th><th>Name</th><th>Codec</th><th>Size</th><th title="frames per second">Frames</th>
        <th>kbit/s</th>
        <th title="1: least processor time, 9: best picture">Effort</th>
        <th>Sound kbit/s</th><th><span class="sr-only">More and remove</span></th>
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
          <td><input class="input input-xs w-24" bind:value={r.name} oninput={touch} aria-label="Name" /></td>
          {#if r.source}
            <td colspan="5" class="label-quiet">the source, untouched</td>
          {:else if soundOnly(r)}
            <td colspan="5" class="label-quiet">audio only</td>
          {:else}
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
                {#each codecs as [id, label] (id)}<option value={id}>{label}</option>{/each}
              </select></td
            >
            <td class="whitespace-nowrap"
              >{@render number(r, "width", 1, "auto")} × {@render number(r, "height", 1, "auto")}
              {#if r.ready}<p class="label-quiet" data-ready={readyMade(r)}>
                  {readyMade(r) ? "ready-made by the sender" : "encoded until the sender makes it"}
                </p>{/if}
              {#if madeAs(r)}<p class="label-quiet whitespace-normal">{madeAs(r)}</p>{/if}</td
            >
            <td
              ><input
                class="input input-xs w-18"
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
            <td>{@render number(r, "bitrate", 1000, "")}</td>
            <td class="whitespace-nowrap"
              >{@render number(r, "effort", 1, "2")}
              {#if advice(r)}<button
                  class="btn btn-ghost btn-xs px-1"
                  title="There is room for effort {advice(r)} on this machine"
                  onclick={() => ((r.effort = advice(r)), touch())}>→ {advice(r)}</button
                >{/if}</td
            >
          {/if}
          <td>{@render number(r, "audioBitrate", 1000, "source")}</td>
          <td class="whitespace-nowrap"
            ><button
              class={["btn btn-ghost btn-xs px-1.5", open === i && "btn-active"]}
              aria-expanded={open === i}
              onclick={() => (open = open === i ? -1 : i)}
              aria-label="All settings of {r.name}">{others(r) ? `More · ${others(r)}` : "More"}</button
            ><button
              class="btn btn-ghost btn-xs px-1"
              onclick={() => ((open = -1), remove(i))}
              aria-label="Remove {r.name}">✕</button
            ></td
          >
        </tr>
        {#if open === i}
          <tr><td colspan="9"><RungForm rung={r} {images} {touch} add={addImage} /></td></tr>
        {/if}
      {/each}
    </tbody>
  </table>
</div>
