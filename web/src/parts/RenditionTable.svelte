<script lang="ts">
  import { bitrate } from "../lib/format";
  import type { Status } from "../lib/types";
  let { status }: { status: Status } = $props();
  const list = $derived(status.renditions.filter((r) => !r.retired));
</script>

{#if list.length}
  <div class="border-base-300 overflow-x-auto border-t">
    <table class="table-xs table">
      <caption class="label-quiet px-3 pt-2 text-left">What comes out now</caption>
      <thead>
        <tr
          ><th>Rendition</th><th>Codec</th><th>Size</th><th>Average</th><th>Peak</th><th>Newest segment</th
          ></tr
        >
      </thead>
      <tbody>
        {#each list as r (r.name)}
          <tr>
            <td class="font-medium">{r.name}</td>
            <td class="font-mono">{r.codec}</td>
            <td>{r.width ? `${r.width}×${r.height}` : "–"}</td>
            <td>{bitrate(r.average)}</td>
            <td>{bitrate(r.peak)}</td>
            <td>{r.last}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
{/if}
