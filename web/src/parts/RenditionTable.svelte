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
          ><th>Rendition</th><th>Codec</th><th>Size</th><th title="bits a second, at most">Asked</th><th
            title="over the last second">Now</th
          ><th>Average</th><th>Peak</th><th title="of samples, against what went into the encoder"
            >PSNR, SSIM</th
          ><th>Newest segment</th></tr
        >
      </thead>
      <tbody>
        {#each list as r (r.name)}
          <tr>
            <td class="font-medium">{r.name}</td>
            <td class="font-mono">{r.codec}</td>
            <td>{r.width ? `${r.width}×${r.height}` : "–"}</td>
            <td class="whitespace-nowrap"
              >{r.asked ? bitrate(r.asked) : "–"}{#if r.askedPeak}<span class="label-quiet">
                  ≤ {bitrate(r.askedPeak)}</span
                >{/if}</td
            >
            <td class="tabular-nums">{bitrate(r.second)}</td>
            <td class="tabular-nums">{bitrate(r.average)}</td>
            <td class={["tabular-nums", r.askedPeak && r.peak > r.askedPeak * 1.05 && "text-warning"]}
              >{bitrate(r.peak)}</td
            >
            <td class="whitespace-nowrap tabular-nums"
              >{r.psnr ? `${(r.psnr / 100).toFixed(1)} dB, ${((r.ssim ?? 0) / 10000).toFixed(3)}` : "–"}</td
            >
            <td>{r.last}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
{/if}
