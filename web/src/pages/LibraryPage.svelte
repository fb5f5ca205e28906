<script lang="ts">
  // Files on demand: what each holds, what keeps it from being played, and a player for the one that is chosen.
  import "../player/index";
  import { call } from "../lib/api";
  import { bitrate, bytes, span } from "../lib/format";
  import type { Entry } from "../lib/types";
  import CopyField from "../parts/CopyField.svelte";
  import Trouble from "../parts/Trouble.svelte";
  let { chosen }: { chosen: string } = $props();
  let list = $state<Entry[] | undefined>();
  let error = $state<unknown>();
  let filter = $state("");
  $effect(() => {
    const load = () =>
      call<Entry[]>("GET", "/items").then(
        (l) => ((list = l), (error = undefined)),
        (e) => (error = e),
      );
    void load();
    const t = setInterval(load, 4000);
    return () => clearInterval(t);
  });
  const shown = $derived((list ?? []).filter((e) => e.name.includes(filter.toLowerCase())));
  const entry = $derived((list ?? []).find((e) => e.name === chosen));
</script>

<div class="mb-3 flex flex-wrap items-center gap-3">
  <h1 class="text-lg font-semibold">Library</h1>
  {#if list}<span class="label-quiet">{list.length} {list.length === 1 ? "file" : "files"}</span>{/if}
  <input class="input input-sm ml-auto w-48" placeholder="Find" aria-label="Find" bind:value={filter} />
</div>
<Trouble {error} />
<div class={["grid items-start gap-4", entry && "lg:grid-cols-2"]} data-library>
  {#if entry}
    <section class="panel overflow-hidden" aria-label={entry.name}>
      {#if entry.trouble}
        <p class="border-warning bg-warning/15 border-l-3 px-3 py-2 text-sm" role="alert">{entry.trouble}</p>
      {:else}
        {#key entry.name}<metaplasis-player item={entry.name}></metaplasis-player>{/key}
      {/if}
      <div class="grid gap-3 p-3">
        <div class="flex items-center gap-2">
          <h2 class="truncate font-medium">{entry.file}</h2>
          <a class="btn btn-xs ml-auto" href="#/library">Close</a>
        </div>
        {#if entry.note}<p class="text-sm">{entry.note}</p>{/if}
        <div class="overflow-x-auto">
          <table class="table-sm table">
            <thead
              ><tr><th>Track</th><th>Codec</th><th>Bitrate</th><th>Keyframes</th><th>As it is</th></tr></thead
            >
            <tbody>
              {#each entry.tracks as t (t.name)}
                <tr>
                  <td>{t.name}{t.language ? `, ${t.language}` : ""}</td>
                  <td>{t.codec || t.kind}{t.width ? ` ${t.width}×${t.height}` : ""}</td>
                  <td>{bitrate(t.bitrate)}</td>
                  <td>{t.keyMillis ? `${(t.keyMillis / 1000).toFixed(1)} s` : "–"}</td>
                  <td class={t.trouble ? "text-warning" : ""}>{t.trouble || "plays"}</td>
                </tr>
              {/each}
            </tbody>
          </table>
        </div>
        {#if entry.hls}
          <CopyField label="HLS" value={entry.hls} />
          <CopyField label="DASH" value={entry.dash ?? ""} />
        {/if}
      </div>
    </section>
  {/if}
  <section class="panel" aria-label="Files">
    {#if !list}
      <div class="skeleton m-3 h-24"></div>
    {:else if list.length === 0}
      <p class="label-quiet p-6 text-center">
        No file is there. Put MP4 or MOV files into the library’s folder (<code>serve --library</code>); they
        appear here within seconds.
      </p>
    {:else}
      <ul class="divide-base-300 divide-y">
        {#each shown as e (e.name)}
          <li>
            <a
              href="#/library/{e.name}"
              class={[
                "hover:bg-base-200 flex flex-wrap items-center gap-x-3 px-3 py-2",
                e.name === chosen && "bg-base-200",
              ]}
              data-item={e.name}
            >
              <span class="min-w-40 flex-1">
                <span class="block truncate text-sm font-medium">{e.file}</span>
                <span class="label-quiet block truncate"
                  >{e.trouble || e.note || e.tracks.map((t) => t.codec || t.kind).join(", ")}</span
                >
              </span>
              <span class="label-quiet">{e.millis ? span(e.millis / 1000) : ""}</span>
              <span class="label-quiet w-20 text-right">{bytes(e.bytes)}</span>
              <span class={["badge badge-sm", e.trouble ? "badge-warning" : "badge-ghost"]}
                >{e.trouble ? "does not play" : "plays"}</span
              >
            </a>
          </li>
        {/each}
      </ul>
    {/if}
  </section>
</div>
