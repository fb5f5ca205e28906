<script lang="ts">
  // How loud the sound is, as it comes and as it is brought to a target (EBU R 128).
  import { level } from "../lib/format";
  import type { Loudness, Status } from "../lib/types";
  let { status }: { status: Status } = $props();
  interface Row extends Loudness {
    name: string;
    target?: number;
  }
  const rows = $derived<Row[]>([
    ...(status.worker?.loudness ? [{ ...status.worker.loudness, name: "source" }] : []),
    ...(status.worker?.levels ?? []).map((l) => ({ ...l, name: l.rendition })),
  ]);
  const least = -60; // LUFS at the left end
  const place = (v: number) => Math.min(100, Math.max(0, ((v - least) / -least) * 100));
</script>

{#if rows.length}
  <div class="border-base-300 border-t p-3" data-levels>
    <p class="label-quiet mb-2">Loudness over three seconds, integrated, and true peak</p>
    <div class="grid gap-2">
      {#each rows as r (r.name)}
        <div
          class="grid grid-cols-[minmax(6rem,10rem)_minmax(4rem,1fr)] sm:grid-cols-[minmax(6rem,10rem)_1fr_23rem] items-center gap-3 text-sm"
        >
          <span class="truncate font-medium">{r.name}</span>
          <div
            class="bg-base-200 rounded-field relative h-3"
            role="meter"
            aria-label="Loudness of {r.name}"
            aria-valuemin={least}
            aria-valuemax="0"
            aria-valuenow={r.shortTerm / 100}
          >
            <div class="bg-primary/70 rounded-field h-3" style:width="{place(r.shortTerm / 100)}%"></div>
            <div
              class="bg-base-content absolute -top-0.5 h-4 w-0.5"
              style:left="{place(r.integrated / 100)}%"
              title="integrated"
            ></div>
            {#if r.target}<div
                class="bg-success absolute -top-1 h-5 w-0.5"
                style:left="{place(r.target)}%"
                title="target"
              ></div>{/if}
          </div>
          <span class="label-quiet tabular-nums max-sm:col-span-2"
            >{level(r.shortTerm, "LUFS")}, {level(r.integrated, "LUFS")} in all{r.target
              ? ` for ${r.target}`
              : ""}, peak {level(r.peak, "dB")}</span
          >
        </div>
      {/each}
    </div>
  </div>
{/if}
