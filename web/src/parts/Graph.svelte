<script lang="ts">
  // How a channel's renditions are made: what each part of the worker takes, as a drawing.
  import { drawGraph } from "../lib/graph";
  import type { Status } from "../lib/types";
  let { status }: { status: Status } = $props();
  const drawing = $derived(drawGraph(status));
</script>

{#if drawing.boxes.length}
  <div class="border-base-300 border-t p-3">
    <p class="label-quiet mb-2">How it is made, and what each part takes of a processor</p>
    <div class="overflow-x-auto">
      <svg
        viewBox="-1 -1 {drawing.width + 2} {drawing.height + 2}"
        class="h-auto w-full min-w-[520px]"
        role="img"
        aria-label="The graph of the channel"
        data-graph
      >
        {#each drawing.lines as l, i (i)}
          <path
            d="M{l.x1},{l.y1} C{(l.x1 + l.x2) / 2},{l.y1} {(l.x1 + l.x2) / 2},{l.y2} {l.x2},{l.y2}"
            class="stroke-base-content/30 fill-none"
            stroke-width="1.5"
            stroke-dasharray={l.passes ? "4 3" : undefined}
          />
        {/each}
        {#each drawing.boxes as b (b.id)}
          <g transform="translate({b.x},{b.y})" data-node={b.id}>
            <rect width={b.w} height={b.h} rx="6" class="fill-base-200 stroke-base-300" />
            {#if b.load !== undefined}
              <rect
                y={b.h - 4}
                width={Math.max(2, (b.w * Math.min(b.load, 1000)) / 1000)}
                height="4"
                rx="2"
                class={b.load > 900 ? "fill-error" : b.load > 600 ? "fill-warning" : "fill-primary"}
              />
            {/if}
            <text x="8" y="15" class="fill-base-content text-[11px] font-medium">{b.title}</text>
            <text x="8" y="29" class="fill-base-content/70 text-[10px] tabular-nums">{b.text}</text>
            <title>{b.title}: {b.text}</title>
          </g>
        {/each}
      </svg>
    </div>
  </div>
{/if}
