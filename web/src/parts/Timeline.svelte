<script lang="ts">
  import { call } from "../lib/api";
  import { bitrate } from "../lib/format";
  import type { TimelineRow, TimelineSegment } from "../lib/types";
  import Trouble from "./Trouble.svelte";
  let { slug }: { slug: string } = $props();
  let rows = $state.raw<TimelineRow[] | undefined>();
  let now = $state(Date.now());
  let error = $state<unknown>();

  $effect(() => {
    let over = false;
    let timer: ReturnType<typeof setTimeout>;
    const look = async () => {
      try {
        rows = await call<TimelineRow[]>("GET", `/channels/${slug}/timeline`);
        now = Date.now();
        error = undefined;
      } catch (e) {
        error = e;
      }
      if (!over) timer = setTimeout(look, document.hidden ? 2000 : 250);
    };
    void look();
    return () => {
      over = true;
      clearTimeout(timer);
    };
  });

  const begin = $derived(Math.min(...(rows ?? []).flatMap((r) => r.segments.map((s) => s.start))));
  const span = $derived(Math.max(1000, now - begin + 300));
  const at = (t: number) => `${((t - begin) / span) * 100}%`;
  const wide = (d: number) => `${(d / span) * 100}%`;
  const edge = (r: TimelineRow) => {
    const last = r.segments[r.segments.length - 1];
    return last ? now - last.start - last.duration : NaN;
  };
  const rate = (s: TimelineSegment) => (s.duration ? (s.bytes * 8000) / s.duration : 0);
  const lines = $derived.by(() => {
    const step = span > 20_000 ? 5000 : span > 8000 ? 2000 : 1000;
    const out: number[] = [];
    for (let t = Math.ceil(begin / step) * step; t < now; t += step) out.push(t);
    return out;
  });
</script>

<div class="grid gap-3 p-4" data-timeline>
  <Trouble {error} />
  {#if rows === undefined}
    {#if !error}<div class="skeleton h-40" aria-busy="true"></div>{/if}
  {:else if rows.length === 0}
    <p class="label-quiet rounded-box bg-base-200 px-4 py-5 text-center">
      There is no window yet. It begins a few seconds after the sender.
    </p>
  {:else}
    <div class="grid gap-1.5">
      {#each rows as r (r.rendition)}
        <div class="grid grid-cols-[4.5rem_1fr_4rem] items-center gap-2">
          <span class="truncate text-sm font-medium" title={r.rendition}>{r.rendition}</span>
          <div class="bg-base-200 rounded-selector relative h-9 overflow-hidden">
            {#each lines as t (t)}<span class="bg-base-300 absolute inset-y-0 w-px" style:left={at(t)}
              ></span>{/each}
            {#each r.segments as s (s.msn)}
              <div
                class={[
                  "absolute inset-y-1 flex overflow-hidden rounded-[3px] border",
                  s.gap
                    ? "border-error border-dashed"
                    : s.open
                      ? "border-accent bg-accent/20"
                      : r.kind === "video"
                        ? "border-primary/60 bg-primary/20"
                        : "border-secondary/60 bg-secondary/20",
                  s.discontinuity && "border-l-warning border-l-4",
                ]}
                style:left={at(s.start)}
                style:width={wide(s.duration)}
                title="Segment {s.msn}: {s.duration} ms in {s.parts.length} parts, {bitrate(rate(s))}{s.gap
                  ? ', a gap'
                  : ''}{s.discontinuity ? ', behind a discontinuity' : ''}"
                data-segment={s.msn}
                data-open={s.open ? "" : undefined}
              >
                {#each s.parts as p, i (i)}
                  <span
                    class="border-base-100/70 h-full border-r last:border-r-0"
                    style:width="{(p / s.duration) * 100}%"
                  ></span>
                {/each}
                <span
                  class="pointer-events-none absolute inset-0 grid place-items-center text-[0.65rem] leading-none"
                  >{s.msn}</span
                >
              </div>
            {/each}
          </div>
          <span class="label-quiet text-right" title="From the end of the newest part to now"
            >{Math.max(0, edge(r)).toFixed(0)} ms</span
          >
        </div>
      {/each}
    </div>
    <div class="label-quiet flex flex-wrap gap-x-4 gap-y-1">
      <span
        ><span class="bg-primary/20 border-primary/60 inline-block size-3 rounded-[3px] border align-[-2px]"
        ></span> picture</span
      >
      <span
        ><span
          class="bg-secondary/20 border-secondary/60 inline-block size-3 rounded-[3px] border align-[-2px]"
        ></span> sound</span
      >
      <span
        ><span class="bg-accent/20 border-accent inline-block size-3 rounded-[3px] border align-[-2px]"
        ></span> being made</span
      >
      <span
        ><span class="border-error inline-block size-3 rounded-[3px] border border-dashed align-[-2px]"
        ></span> gap</span
      >
      <span class="ml-auto">{(span / 1000).toFixed(0)} s shown; right: from the newest part to now</span>
    </div>
  {/if}
</div>
