<script lang="ts">
  // Two renditions, picture for picture: under a split that can be moved, or side by side.
  import { untrack } from "svelte";
  import { Comparison, type Side } from "../lib/compare.svelte";
  import type { Status } from "../lib/types";
  let { slug, status }: { slug: string; status: Status } = $props();

  const list = $derived(status.renditions.filter((r) => r.kind === "video" && !r.retired));
  const names = $derived(list.map((r) => r.name).join(" "));
  let left = $state("");
  let right = $state("");
  $effect(() => {
    const all = names.split(" ").filter(Boolean);
    const direct = status.rungs.find((r) => r.source)?.name ?? "";
    if (!all.includes(left)) left = all.includes(direct) ? direct : (all[0] ?? "");
    if (!all.includes(right)) right = all.find((n) => n !== left) ?? left;
  });

  let canvas = $state<HTMLCanvasElement>();
  let view = $state<"split" | "beside">("split");
  let split = $state(50); // per cent of the width
  let actual = $state(false); // a sample is a pixel of the screen
  let comparison = $state<Comparison>();
  let last: [ImageBitmap, ImageBitmap] | undefined;

  const sideOf = (name: string): Side | undefined => {
    const r = list.find((r) => r.name === name);
    return r && { name, codec: r.codec, width: r.width ?? 0, height: r.height ?? 0 };
  };
  // It goes on while figures of the channel change: only other sides begin another one.
  const sides = $derived(JSON.stringify([left, right].map(sideOf)));
  $effect(() => {
    const [a, b] = JSON.parse(sides) as (Side | undefined)[];
    const rate = untrack(() => (status.feed?.frameRate ?? 0) / 1000);
    if (!a || !b) return;
    const c = new Comparison(slug, a, b, Math.round(rate), (x, y) => {
      last = [x, y];
      paint();
    });
    comparison = c;
    return () => {
      last = undefined;
      c.close();
    };
  });
  function paint() {
    if (!canvas || !last) return;
    const [a, b] = last;
    const w = Math.max(a.width, b.width);
    const h = Math.max(a.height, b.height);
    const total = view === "split" ? w : 2 * w;
    if (canvas.width !== total || canvas.height !== h) {
      canvas.width = total;
      canvas.height = h;
    }
    const g = canvas.getContext("2d");
    if (!g) return;
    g.imageSmoothingEnabled = !actual;
    if (view === "beside") {
      g.drawImage(a, 0, 0, w, h);
      g.drawImage(b, w, 0, w, h);
      return;
    }
    const at = Math.round((w * split) / 100);
    g.drawImage(a, 0, 0, w, h);
    g.save();
    g.beginPath();
    g.rect(at, 0, w - at, h);
    g.clip();
    g.drawImage(b, 0, 0, w, h);
    g.restore();
    g.fillStyle = "rgba(255,255,255,.85)";
    g.fillRect(at - 1, 0, 2, h);
  }
  $effect(() => {
    void [view, split, actual];
    paint();
  });

  function drag(e: PointerEvent) {
    if (view !== "split" || !canvas || !(e.buttons & 1)) return;
    const box = canvas.getBoundingClientRect();
    split = Math.min(100, Math.max(0, ((e.clientX - box.left) / box.width) * 100));
  }
  /** still saves both pictures in full size, beside each other. */
  function still() {
    if (!last || !comparison) return;
    const [a, b] = last;
    const sheet = document.createElement("canvas");
    sheet.width = a.width + b.width;
    sheet.height = Math.max(a.height, b.height);
    const g = sheet.getContext("2d");
    g?.drawImage(a, 0, 0);
    g?.drawImage(b, a.width, 0);
    const name = `${slug}-${left}-${right}-${comparison.time.toFixed(3)}.png`;
    sheet.toBlob((blob) => {
      if (!blob) return;
      const link = document.createElement("a");
      link.href = URL.createObjectURL(blob);
      link.download = name;
      link.click();
      URL.revokeObjectURL(link.href);
    });
  }
  function keys(e: KeyboardEvent) {
    if (e.key === " ") {
      if (comparison?.playing) comparison.pause();
      else comparison?.play();
    } else if (e.key === "," || e.key === ".") comparison?.step(e.key === "," ? -1 : 1);
    else if (e.key === "ArrowLeft") split = Math.max(0, split - 2);
    else if (e.key === "ArrowRight") split = Math.min(100, split + 2);
    else return;
    e.preventDefault();
  }
  const label = (name: string) => {
    const r = list.find((r) => r.name === name);
    return r ? `${name} · ${r.width}×${r.height}` : name;
  };
</script>

<div
  class="grid gap-2 p-3"
  data-compare
  data-pairs={comparison?.pairs ?? 0}
  data-time={comparison?.time ?? ""}
>
  {#if list.length < 2}
    <p class="label-quiet rounded-box bg-base-200 px-4 py-6 text-center">
      Two renditions of pictures are needed. Turn a rung on, or wait for the first segments.
    </p>
  {:else}
    <div class="flex flex-wrap items-center gap-2">
      <select class="select select-xs w-28" bind:value={left} aria-label="Left">
        {#each list as r (r.name)}<option value={r.name}>{r.name}</option>{/each}
      </select>
      <span class="label-quiet">against</span>
      <select class="select select-xs w-28" bind:value={right} aria-label="Right">
        {#each list as r (r.name)}<option value={r.name}>{r.name}</option>{/each}
      </select>
      <div class="join" role="group" aria-label="View">
        <button
          class={["btn btn-xs join-item", view === "split" && "btn-primary"]}
          aria-pressed={view === "split"}
          onclick={() => (view = "split")}>Split</button
        >
        <button
          class={["btn btn-xs join-item", view === "beside" && "btn-primary"]}
          aria-pressed={view === "beside"}
          onclick={() => (view = "beside")}>Side by side</button
        >
      </div>
      <button class="btn btn-xs" aria-pressed={actual} onclick={() => (actual = !actual)}
        >{actual ? "Fit to the page" : "Full size"}</button
      >
      <div class="join ml-auto" role="group" aria-label="Pictures">
        <button
          class="btn btn-xs join-item"
          onclick={() => comparison?.step(-1)}
          aria-label="One picture back">◀︎</button
        >
        <button
          class="btn btn-xs join-item w-14"
          onclick={() => (comparison?.playing ? comparison.pause() : comparison?.play())}
          >{comparison?.playing ? "Pause" : "Play"}</button
        >
        <button class="btn btn-xs join-item" onclick={() => comparison?.step(1)} aria-label="One picture on"
          >▶︎</button
        >
      </div>
      <button class="btn btn-xs" onclick={still} disabled={!comparison?.pairs}>Save still</button>
    </div>
    <!-- The pictures take keys, as a player does; the checker does not count an application among what one can go to. -->
    <!-- svelte-ignore a11y_no_noninteractive_tabindex, a11y_no_noninteractive_element_interactions -->
    <div
      class={["rounded-box relative bg-black", actual ? "max-h-[70vh] overflow-auto" : "overflow-hidden"]}
      role="application"
      aria-label="Comparison: space pauses, comma and full stop step, arrows move the split"
      tabindex="0"
      onkeydown={keys}
    >
      <canvas
        bind:this={canvas}
        class={[
          actual ? "max-w-none" : "block h-auto w-full",
          view === "split" && "cursor-col-resize touch-none",
        ]}
        onpointerdown={drag}
        onpointermove={drag}
      ></canvas>
      <span class="rounded-field absolute top-2 left-2 bg-black/60 px-2 py-0.5 text-xs text-white"
        >{label(left)}</span
      >
      <span class="rounded-field absolute top-2 right-2 bg-black/60 px-2 py-0.5 text-xs text-white"
        >{label(right)}</span
      >
      {#if comparison?.message}
        <p class="grid min-h-40 place-items-center px-4 text-center text-sm text-white" role="status">
          {comparison.message}
        </p>
      {/if}
    </div>
    {#if view === "split"}
      <input
        type="range"
        class="range range-xs w-full"
        min="0"
        max="100"
        step="0.5"
        bind:value={split}
        aria-label="Split"
      />
    {/if}
    <p class="label-quiet">
      Both sides always show the same picture of the source{comparison && comparison.time > 0
        ? `, at ${comparison.time.toFixed(3)} s`
        : ""}.
    </p>
  {/if}
</div>
