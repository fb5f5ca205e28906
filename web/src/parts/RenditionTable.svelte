<script lang="ts">
  import { kilobits } from "../lib/format";
  import type { Status } from "../lib/types";
  let { status }: { status: Status } = $props();
  const list = $derived(status.renditions.filter((r) => !r.retired));
  // A segment may take a little more than the peak, since the decoder's buffer evens it out.
  const over = (r: Status["renditions"][number]) => r.askedPeak && r.peak > r.askedPeak * 1.05;
</script>

{#if list.length}
  <div class="border-base-300 overflow-x-auto border-t">
    <table class="table-xs table [&_td]:px-2 [&_th]:px-2">
      <caption class="label-quiet px-3 pt-2 text-left">What comes out now, in kbit/s</caption>
      <thead>
        <tr>
          <th>Rendition</th><th>Codec</th><th>Size</th>
          <th title="target and peak bitrate of the rung">Asked</th>
          <th title="over the last second">Now</th>
          <th title="over the length of the decoder’s buffer">Buffer</th>
          <th title="over the newest segments">Average</th>
          <th title="the largest of the newest segments">Peak</th>
          <th title="PSNR of samples against what went into the encoder; SSIM beside it when pointed at"
            >PSNR</th
          >
        </tr>
      </thead>
      <tbody>
        {#each list as r (r.name)}
          <tr class="[&_td]:tabular-nums [&_td]:whitespace-nowrap">
            <td class="font-medium">{r.name}</td>
            <td class="font-mono">{r.codec}</td>
            <td>{r.width ? `${r.width}×${r.height}` : "–"}</td>
            <td>{kilobits(r.asked)}{r.askedPeak ? ` ≤ ${kilobits(r.askedPeak)}` : ""}</td>
            <td>{kilobits(r.second)}</td>
            <td>{r.buffer ? kilobits(r.buffer) : "–"}</td>
            <td>{kilobits(r.average)}</td>
            <td class={[over(r) && "text-warning"]}>{kilobits(r.peak)}</td>
            <td title={r.ssim ? `SSIM ${(r.ssim / 10000).toFixed(4)}` : undefined}
              >{r.psnr ? `${(r.psnr / 100).toFixed(1)} dB` : "–"}</td
            >
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
{/if}
