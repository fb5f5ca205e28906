<script lang="ts">
  // Files on demand: what each holds, what keeps it from being played, a player for the one that is chosen, and what is sent here.
  import { session } from "../lib/session.svelte";
  import "../player/index";
  import { call } from "../lib/api";
  import { bitrate, bytes, span } from "../lib/format";
  import { Followed } from "../lib/live.svelte";
  import type { Coding, Entry } from "../lib/types";
  import { Uploads } from "../lib/upload.svelte";
  import CopyField from "../parts/CopyField.svelte";
  import Trouble from "../parts/Trouble.svelte";
  let { chosen }: { chosen: string } = $props();
  const followed = new Followed<Entry[]>(() => "/items");
  const list = $derived(followed.value);
  let failed = $state<unknown>(); // of what was done here
  const error = $derived(failed ?? followed.error);
  let filter = $state("");
  let busy = $state(false);
  let over = $state(false); // files are held above the page
  let picker = $state<HTMLInputElement>();
  const uploads = new Uploads();
  const shown = $derived((list ?? []).filter((e) => e.file.toLowerCase().includes(filter.toLowerCase())));
  const entry = $derived((list ?? []).find((e) => e.name === chosen));
  const codable = $derived(!!entry && entry.tracks.some((t) => t.codable));

  async function act(method: string, path: string, body?: unknown) {
    busy = true;
    failed = undefined;
    try {
      await call(method, `/items/${entry?.name}${path}`, body);
      await followed.refresh();
    } catch (e) {
      failed = e;
    }
    busy = false;
  }
  function send(files: FileList | null | undefined) {
    if (files?.length) void uploads.add(files, () => setTimeout(() => void followed.refresh(), 2500));
  }
  function drop(e: DragEvent) {
    e.preventDefault();
    over = false;
    send(e.dataTransfer?.files);
  }
  const summary = (e: Entry) =>
    e.looking
      ? `is looked through, ${e.looking} %`
      : e.trouble || e.note || e.tracks.map((t) => t.codec || t.kind).join(", ");
  const badge = (e: Entry): [string, string] =>
    e.looking
      ? ["badge-info", "looking"]
      : e.coding && e.coding.state !== "done"
        ? [
            e.coding.state === "failed" ? "badge-error" : "badge-info",
            e.coding.state === "coding" ? `encoding ${e.coding.percent} %` : e.coding.state,
          ]
        : e.trouble
          ? ["badge-warning", "does not play"]
          : ["badge-ghost", e.coding ? "ladder" : "plays"];
  const pace = (c: Coding) =>
    [
      c.speed ? `${(c.speed / 100).toFixed(1)} × as fast as it plays` : "",
      c.left ? `about ${span(c.left)} left` : "",
    ]
      .filter(Boolean)
      .join(", ");
</script>

<svelte:window
  ondragover={(e) => (e.preventDefault(), (over = !!e.dataTransfer?.types.includes("Files")))}
  ondragleave={() => (over = false)}
  ondrop={drop}
/>
<div class="mb-3 flex flex-wrap items-center gap-3">
  <h1 class="text-lg font-semibold">Library</h1>
  {#if list}<span class="label-quiet">{list.length} {list.length === 1 ? "item" : "items"}</span>{/if}
  <input
    class="input input-sm ml-auto w-40 sm:w-48"
    placeholder="Find"
    aria-label="Find"
    bind:value={filter}
  />
  <input
    type="file"
    multiple
    class="hidden"
    aria-label="Files to upload"
    bind:this={picker}
    onchange={() => (send(picker?.files), picker && (picker.value = ""))}
  />
  {#if session.operates}<button class="btn btn-sm btn-primary" onclick={() => picker?.click()}>Upload</button
    >{/if}
</div>
<Trouble {error} />
{#if over}
  <p class="border-primary rounded-box mb-3 border-2 border-dashed p-6 text-center text-sm">
    Let go to send the files to the library.
  </p>
{/if}
{#if uploads.list.length}
  <section class="panel mb-4" aria-label="Uploads" data-uploads>
    <ul class="divide-base-300 divide-y">
      {#each uploads.list as u (u.name)}
        <li class="flex flex-wrap items-center gap-3 px-3 py-2 text-sm">
          <span class="min-w-32 flex-1 truncate">{u.name}</span>
          {#if u.state === "failed"}
            <span class="text-error">{u.error instanceof Error ? u.error.message : "It failed."}</span>
          {:else if u.state === "done"}
            <span class="label-quiet">sent, {bytes(u.size)}</span>
          {:else}
            <progress class="progress progress-primary w-40" value={u.sent} max={u.size}></progress>
            <span class="label-quiet w-40"
              >{u.state === "broken"
                ? "the line broke: goes on …"
                : `${Math.floor((u.sent * 100) / u.size)} %${u.rate ? `, ${bytes(u.rate)}/s` : ""}`}</span
            >
          {/if}
          <button class="btn btn-xs" onclick={() => u.stop()}>{u.state === "done" ? "Hide" : "Cancel"}</button
          >
        </li>
      {/each}
    </ul>
  </section>
{/if}
<div class={["grid items-start gap-4", entry && "lg:grid-cols-2"]} data-library>
  {#if entry}
    <section class="panel overflow-hidden" aria-label={entry.name}>
      {#if entry.looking}
        <p class="label-quiet px-3 py-6 text-center">
          The file is looked through.
          <progress class="progress mt-2 w-full" value={entry.looking} max="100"></progress>
        </p>
      {:else if entry.trouble}
        <p class="border-warning bg-warning/15 border-l-3 px-3 py-2 text-sm" role="alert">{entry.trouble}</p>
      {:else}
        {#key entry.name}<metaplasis-player item={entry.name}></metaplasis-player>{/key}
      {/if}
      <div class="grid gap-3 p-3">
        <div class="flex flex-wrap items-center gap-2">
          <h2 class="min-w-32 flex-1 truncate font-medium">{entry.file}</h2>
          <a class="btn btn-xs" href={entry.download} download>Download</a>
          <button
            class="btn btn-xs"
            disabled={busy || !session.operates}
            onclick={() =>
              confirm(`Remove ${entry.file}? The file and its encoded renditions are deleted.`) &&
              act("DELETE", "").then(() => (location.hash = "#/library"))}>Remove</button
          >
          <a class="btn btn-xs" href="#/library">Close</a>
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
                  <td>{t.bitrate ? bitrate(t.bitrate) : "–"}</td>
                  <td>{t.keyMillis ? `${(t.keyMillis / 1000).toFixed(1)} s` : "–"}</td>
                  <td class={t.trouble ? "text-warning" : ""}>{t.trouble || "plays"}</td>
                </tr>
              {/each}
            </tbody>
          </table>
        </div>
        {#if entry.beside?.length}
          <p class="label-quiet">Beside it: {entry.beside.join(", ")}</p>
        {/if}
        <div class="rounded-box bg-base-200 grid gap-2 p-3 text-sm" data-coding>
          {#if entry.coding}
            {@const c = entry.coding}
            <div class="flex flex-wrap items-center gap-2">
              <span class="flex-1"
                >{c.state === "done"
                  ? "A ladder was made"
                  : `A ladder: ${c.state}${c.state === "coding" || c.state === "paused" ? `, ${c.percent} %` : ""}`}{c
                  .rungs?.length
                  ? `: ${c.rungs.join(", ")}`
                  : ""}</span
              >
              {#if c.state === "coding" || c.state === "waiting"}
                <button
                  class="btn btn-xs"
                  disabled={busy || !session.operates}
                  onclick={() => act("POST", "/coding/pause")}>Pause</button
                >
              {:else if c.state === "paused" || c.state === "failed"}
                <button
                  class="btn btn-xs"
                  disabled={busy || !session.operates}
                  onclick={() => act("POST", "/coding/resume")}>Go on</button
                >
              {/if}
              <button
                class="btn btn-xs"
                disabled={busy || !session.operates}
                onclick={() => act("DELETE", "/coding")}
                >{c.state === "done" ? "Remove the ladder" : "Stop"}</button
              >
            </div>
            {#if c.state === "coding"}
              <progress class="progress progress-primary" value={c.percent} max="100"></progress>
              {#if pace(c)}<span class="label-quiet">{pace(c)}</span>{/if}
            {/if}
            {#if c.trouble}<p class="text-error">{c.trouble}</p>{/if}
          {:else if codable}
            <div class="flex flex-wrap items-center gap-2">
              <span class="flex-1"
                >Code it into a ladder, behind everything that is live. It plays as it is until then{entry.trouble
                  ? ", where it can"
                  : ""}.</span
              >
              <button
                class="btn btn-xs"
                disabled={busy || !session.operates}
                onclick={() => act("POST", "/coding", {})}>Code</button
              >
            </div>
          {:else}
            <span class="label-quiet">None of its tracks can be encoded here.</span>
          {/if}
        </div>
        {#if entry.hls}
          <CopyField label="HLS" value={entry.hls} />
          {#if entry.ts}<CopyField label="HLS, TS" value={entry.ts} />{/if}
          {#if entry.dash}<CopyField label="DASH" value={entry.dash} />{/if}
        {/if}
      </div>
    </section>
  {/if}
  <section class="panel" aria-label="Files">
    {#if !list}
      <div class="skeleton m-3 h-24"></div>
    {:else if list.length === 0}
      <p class="label-quiet p-6 text-center">
        Nothing is there yet. Drop files here, or put them into the library’s folder (<code
          >serve --library</code
        >): MP4, MOV, Matroska, WebM, MPEG-TS, FLV, WAV, MP3 or AAC. They appear within seconds.
      </p>
    {:else if shown.length === 0}
      <p class="label-quiet p-6 text-center">No item has “{filter}” in its name.</p>
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
                <span class="label-quiet block truncate">{summary(e)}</span>
              </span>
              <span class="label-quiet">{e.millis ? span(e.millis / 1000) : ""}</span>
              <span class="label-quiet w-20 text-right">{bytes(e.bytes)}</span>
              <span class={["badge badge-sm", badge(e)[0]]}>{badge(e)[1]}</span>
            </a>
          </li>
        {/each}
      </ul>
    {/if}
  </section>
</div>
