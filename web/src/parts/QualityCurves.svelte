<script lang="ts">
  // The measured quality of each encoded rendition over the last hour.
  import { live } from "../lib/live.svelte";
  import type { Status } from "../lib/types";
  import PointChart from "./PointChart.svelte";
  let { slug, status }: { slug: string; status: Status } = $props();
  $effect(() => void live.want(slug));
  const h = $derived(live.history[slug]);
  const groups = $derived(
    Object.entries(h?.quality ?? {})
      .filter(([name]) => status.renditions.some((r) => r.name === name && !r.retired))
      .map(([label, values]) => ({
        label,
        points: values
          .map((v, i): [number, number] => [
            Math.round((((i - values.length + 1) * (h?.every ?? 0)) / 60000) * 100) / 100,
            v / 100,
          ])
          .filter(([, v]) => v > 0),
      }))
      .filter((g) => g.points.length),
  );
</script>

<div class="border-base-300 border-t p-3">
  {#if groups.length}
    <PointChart {groups} unit="minutes" label="Quality of samples (PSNR) over the last hour" height={190} />
  {:else}
    <p class="label-quiet">
      The quality of encoded renditions is sampled once a minute; the first sample comes soon.
    </p>
  {/if}
</div>
