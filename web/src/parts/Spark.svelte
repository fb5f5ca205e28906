<script lang="ts">
  // A line of the last minute. limit draws the value that must not be passed.
  let { values, limit = 0, label }: { values: number[]; limit?: number; label: string } = $props();
  const top = $derived(Math.max(limit * 1.15, ...values, 1));
  const points = $derived(values.map((v, i) => `${60 - values.length + i},${20 - (v / top) * 19}`).join(" "));
</script>

<svg viewBox="0 0 60 20" preserveAspectRatio="none" class="h-5 w-full" role="img" aria-label={label}>
  {#if limit}
    <line
      x1="0"
      x2="60"
      y1={20 - (limit / top) * 19}
      y2={20 - (limit / top) * 19}
      class="stroke-base-content/30"
      stroke-dasharray="2 2"
      vector-effect="non-scaling-stroke"
    />
  {/if}
  <polyline
    {points}
    fill="none"
    class="stroke-primary"
    stroke-width="1.5"
    vector-effect="non-scaling-stroke"
  />
</svg>
