<script lang="ts">
  import uPlot from "uplot";
  import "uplot/dist/uPlot.min.css";

  // A line over time, with axes and the value under the pointer. limit draws what must not be passed.
  let {
    values,
    every,
    until,
    span = 300,
    limit = 0,
    least = 1,
    label,
    format,
    axes = true,
    height = 110,
  }: {
    values: number[];
    every: number; // milliseconds between two values
    until: number; // milliseconds since 1970
    span?: number; // seconds shown
    limit?: number;
    least?: number; // that the axis reaches in any case
    label: string;
    format: (v: number) => string;
    axes?: boolean;
    height?: number;
  } = $props();

  let box: HTMLDivElement;
  let plot: uPlot | undefined;
  let width = $state(0);
  let pointed = $state("");

  const color = (name: string, alpha = 100) =>
    `color-mix(in oklab, ${getComputedStyle(box).getPropertyValue(name)} ${alpha}%, transparent)`;

  function data(): uPlot.AlignedData {
    const end = until / 1000;
    const times = values.map((_, i) => end - ((values.length - 1 - i) * every) / 1000);
    return [times, values];
  }

  function options(): uPlot.Options {
    const quiet = color("--color-base-content", 62);
    const grid = { stroke: color("--color-base-content", 12), width: 1 };
    const font = "11px system-ui, sans-serif";
    return {
      width: Math.max(width, 40),
      height,
      legend: { show: false },
      padding: axes ? [6, 26, 0, 0] : [2, 0, 2, 0],
      cursor: { y: false, points: { size: 6 }, drag: { x: false, y: false } },
      scales: {
        x: { time: true, range: () => [until / 1000 - span, until / 1000] },
        y: { range: (_, __, max) => [0, Math.max(max * 1.15, limit * 1.2, least)] },
      },
      axes: [
        {
          show: axes,
          stroke: quiet,
          grid: { show: false },
          ticks: { show: false },
          font,
          size: 22,
          space: 70,
          values: (_, splits) =>
            splits.map((s) =>
              new Date(s * 1000).toLocaleTimeString([], {
                hour12: false,
                hour: "2-digit",
                minute: "2-digit",
                second: span < 900 ? "2-digit" : undefined,
              }),
            ),
        },
        {
          show: axes,
          stroke: quiet,
          grid,
          ticks: { show: false },
          font,
          size: 74,
          space: Math.min(34, height / 4),
          values: (_, splits) => splits.map((v) => (v ? format(v) : "0")),
        },
      ],
      series: [
        {},
        {
          label,
          stroke: color("--color-primary"),
          fill: color("--color-primary", 10),
          width: 1.5,
          points: { show: false },
        },
      ],
      hooks: {
        setCursor: [
          (u) => {
            const i = u.cursor.idx;
            const v = i == null ? undefined : u.data[1][i];
            pointed =
              v == null || i == null
                ? ""
                : `${format(v)} at ${new Date(u.data[0][i] * 1000).toLocaleTimeString([], { hour12: false })}`;
          },
        ],
        draw: [
          (u) => {
            if (!limit) return;
            const y = Math.round(u.valToPos(limit, "y", true));
            u.ctx.save();
            u.ctx.strokeStyle = color("--color-error", 70);
            u.ctx.setLineDash([4, 4]);
            u.ctx.beginPath();
            u.ctx.moveTo(u.bbox.left, y);
            u.ctx.lineTo(u.bbox.left + u.bbox.width, y);
            u.ctx.stroke();
            u.ctx.restore();
          },
        ],
      },
    };
  }

  $effect(() => {
    // The theme's colours and the width are the plot's own; it is made again with them.
    void [span, limit, axes, height];
    if (!width) return;
    const p = new uPlot(options(), data(), box);
    plot = p;
    return () => {
      p.destroy();
      plot = undefined;
    };
  });
  $effect(() => {
    const d = data();
    plot?.setData(d);
  });
  let theme = $state(0);
  $effect(() => {
    const seen = new MutationObserver(() => {
      theme++;
      if (plot) {
        plot.destroy();
        plot = new uPlot(options(), data(), box);
      }
    });
    seen.observe(document.documentElement, { attributes: true, attributeFilter: ["data-theme"] });
    return () => seen.disconnect();
  });
</script>

<div
  class="relative min-w-0"
  role="img"
  aria-label="{label}: {values.length ? format(values.at(-1) ?? 0) : 'nothing yet'}"
  data-theme-turn={theme}
>
  <div bind:this={box} bind:clientWidth={width} style:height="{height}px" class="overflow-hidden"></div>
  {#if pointed}
    <p
      class="rounded-selector bg-base-100/90 pointer-events-none absolute top-0 right-1 px-1.5 text-xs font-medium"
    >
      {pointed}
    </p>
  {:else if values.length < 2}
    <p class="label-quiet pointer-events-none absolute inset-0 grid place-items-center">
      The first minute is being measured …
    </p>
  {/if}
</div>
