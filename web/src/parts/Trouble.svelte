<script lang="ts">
  import { Refused } from "../lib/api";
  let { error }: { error: unknown } = $props();
  const refused = $derived(error instanceof Refused ? error : undefined);
</script>

{#if error}
  <div class="rounded-box border-error/40 bg-error/10 border px-3 py-2 text-sm" role="alert">
    <p class="font-medium">{refused?.message ?? String(error)}</p>
    {#each refused?.problems ?? [] as p (p.field + p.text)}
      <p class="mt-1"><code class="text-xs">{p.field}</code> {p.text}</p>
    {/each}
    {#if refused?.remedy}<p class="label-quiet mt-1">{refused.remedy}</p>{/if}
  </div>
{/if}
