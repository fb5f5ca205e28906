<script lang="ts">
  import uPlot from "uplot";
  import "uplot/dist/uPlot.min.css";
  import type { Group } from "../lib/trial";

  // Quality against something else: lines and dots with a legend.
  let {
    groups,
    label,
    unit,
    log = false,
    lines = true,
    height = 230,
  }: {
    groups: Group[];
    label: string;
    unit: string;
    log?: boolean;
    lines?: boolean;
    height?: number;
  } = $props();

  let box: HTMLDivElement;
  let width = $state(0);
  let theme = $state(0);
  const palette = [
    "--color-primary",
    "--color-accent",
    "--color-success",
    "--color-warning",
    "--color-info",
    "--color-error",
  ];

  function draw() {
    const style = getComputedStyle(box);
    const color = (name: string, alpha = 100) =>
      `color-mix(in oklab, ${style.getPropertyValue(name)} ${alpha}%, transparent)`;
    const tables = groups.map(
      (g) => [g.points.map((p) => p[0]), g.points.map((p) => p[1])] as uPlot.AlignedData,
    );
    const data = tables.length ? uPlot.join(tables) : ([[], []] as unknown as uPlot.AlignedData);
    const quiet = color("--color-base-content", 62);
    const grid = { stroke: color("--color-base-content", 12), width: 1 };
    const font = "11px system-ui, sans-serif";
    let line = 0;
    return new uPlot(
      {
        width: Math.max(width, 40),
        height,
        padding: [8, 30, 0, 0],
        cursor: { drag: { x: false, y: false } },
        legend: { live: false },
        scales: { x: { time: false, distr: log ? 3 : 1 } },
        axes: [
          {
            stroke: quiet,
            grid,
            ticks: { show: false },
            font,
            label: unit,
            labelFont: font,
            labelSize: 16,
            size: 24,
            values: (_, v) => v.map((n) => (n == null ? "" : String(n))),
          },
          {
            stroke: quiet,
            grid,
            ticks: { show: false },
            font,
            size: 52,
            values: (_, v) => v.map((n) => `${n} dB`),
          },
        ],
        series: [
          { label: unit },
          ...groups.map((g): uPlot.Series => {
            const stroke =
              g.dashed || g.dots
                ? color("--color-base-content", 80)
                : color(palette[line++ % palette.length]);
            return {
              label: g.label,
              stroke,
              width: g.dots || !lines ? 0 : 1.75,
              dash: g.dashed ? [6, 4] : undefined,
              spanGaps: true,
              paths: g.dots || !lines ? () => null : undefined,
              points: {
                show: !g.dashed,
                size: g.dots ? 10 : 6,
                fill: g.dots && !g.filled ? color("--color-base-100") : stroke,
                width: g.dots ? 2 : 1,
              },
            };
          }),
        ],
      },
      data,
      box,
    );
  }
  $effect(() => {
    void [groups, theme, width];
    if (!width) return;
    const p = draw();
    return () => p.destroy();
  });
  $effect(() => {
    const seen = new MutationObserver(() => theme++);
    seen.observe(document.documentElement, { attributes: true, attributeFilter: ["data-theme"] });
    return () => seen.disconnect();
  });
</script>

<div role="img" aria-label={label} class="min-w-0 text-xs" data-chart={label}>
  <p class="label-quiet">{label}</p>
  <div bind:this={box} bind:clientWidth={width} class="overflow-hidden"></div>
</div>

<style>
  div :global(.u-legend) {
    font-size: 11px;
    text-align: left;
    margin-left: 52px;
  }
  div :global(.u-legend th) {
    font-weight: normal;
  }
  div :global(.u-legend .u-marker) {
    width: 0.7em;
    height: 0.7em;
  }
</style>
