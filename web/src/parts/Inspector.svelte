<script lang="ts">
  import { call } from "../lib/api";
  import { bitrate } from "../lib/format";
  import type { Addresses, Report } from "../lib/types";
  import Trouble from "./Trouble.svelte";
  let { addresses: a = undefined }: { addresses?: Addresses } = $props();
  const ours = $derived(
    a
      ? [
          ["HLS", a.hls],
          ["DASH", a.dash],
          ["Low-latency DASH", a.lowDash],
          ...(a.ts ? [["Transport streams", a.ts]] : []),
          ...a.selections.map((s) => [`Selection ${s.name}`, s.hls]),
        ]
      : [],
  );
  // The field begins with the first address, and is the user’s from then on.
  // svelte-ignore state_referenced_locally
  let address = $state(a?.hls ?? "");
  let seconds = $state(8);
  let left = $state(0);
  let report = $state.raw<Report | undefined>();
  let error = $state<unknown>();

  async function run(e: SubmitEvent) {
    e.preventDefault();
    error = report = undefined;
    left = seconds;
    const timer = setInterval(() => (left = Math.max(1, left - 1)), 1000);
    try {
      report = await call<Report>("POST", "/inspect", { address, seconds });
    } catch (e) {
      error = e;
    }
    clearInterval(timer);
    left = 0;
  }
  const ms = (v?: number) => (v === undefined ? "–" : `${v} ms`);
  const tone = $derived(
    !report
      ? ""
      : report.broken
        ? "border-error bg-error/12"
        : report.risks
          ? "border-warning bg-warning/15"
          : "border-success bg-success/12",
  );
  const mark: Record<string, string> = { breaks: "text-error", risk: "text-warning", note: "" };
</script>

<div class="grid gap-4 p-4" data-inspector>
  <form class="grid gap-3" onsubmit={run}>
    {#if ours.length}
      <div class="flex flex-wrap gap-1.5" role="group" aria-label="This channel’s formats">
        {#each ours as [name, url] (url)}
          <button
            type="button"
            class={["btn btn-xs", address === url && "btn-primary"]}
            aria-pressed={address === url}
            onclick={() => (address = url)}>{name}</button
          >
        {/each}
      </div>
    {/if}
    <div class="grid grid-cols-[1fr_5rem_auto] items-end gap-2">
      <div>
        <label class="label-quiet mb-1 block" for="ia">Playlist or manifest, ours or any other</label>
        <input
          id="ia"
          class="input input-sm w-full font-mono"
          type="url"
          required
          bind:value={address}
          placeholder="https://…/index.m3u8"
        />
      </div>
      <div>
        <label class="label-quiet mb-1 block" for="is">Seconds</label>
        <input id="is" class="input input-sm w-full" type="number" min="1" max="40" bind:value={seconds} />
      </div>
      <button class="btn btn-primary btn-sm" disabled={left > 0}
        >{left > 0 ? `Following, ${left} s` : "Inspect"}</button
      >
    </div>
  </form>
  <Trouble {error} />
  {#if left > 0}
    <progress class="progress progress-primary" value={seconds - left} max={seconds}></progress>
  {:else if report}
    <p class={["rounded-field border-l-3 px-3 py-2 text-sm font-medium", tone]} role="status" data-verdict>
      {report.verdict}
    </p>
    <div class="overflow-x-auto">
      <table class="table-xs table">
        <caption class="label-quiet pb-1 text-left"
          >{report.protocol}, {report.live
            ? `live, followed for ${report.seconds} s`
            : "on demand"}{report.skew >= 0
            ? `; sound and picture begin ${report.skew} ms apart at most`
            : ""}</caption
        >
        <thead
          ><tr
            ><th>Rendition</th><th title="Edge and the player’s distance together">Behind</th><th
              title="From the end of the list to the clock">Edge</th
            ><th title="Of a segment or part">Fetch</th><th>Segments, parts</th><th>Peak, announced</th><th
              >Codec, size</th
            ></tr
          ></thead
        >
        <tbody>
          {#each report.streams as s (s.name)}
            <tr>
              <td class="font-medium">{s.name}</td>
              <td class="whitespace-nowrap">{ms(s.behind)}</td>
              <td class="whitespace-nowrap">{ms(s.edge)}</td>
              <td class="whitespace-nowrap">{ms(s.fetch)}</td>
              <td>{s.segments}, {s.parts}</td>
              <td>{bitrate(s.peak)}{s.announced ? `, ${bitrate(s.announced)}` : ""}</td>
              <td><span class="font-mono">{s.codec ?? "–"}</span> {s.size}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
    {#if report.findings.length}
      <ul class="grid gap-2">
        {#each report.findings as f (f.rule + f.where)}
          <li class="border-base-300 rounded-box border px-3 py-2 text-sm">
            <p>
              <span class={["font-semibold", mark[f.level]]}>{f.level}</span>
              <span class="font-mono text-xs">{f.rule}</span>{f.where ? ` in ${f.where}` : ""}{f.count > 1
                ? `, ${f.count} times`
                : ""}
            </p>
            <p>{f.found}</p>
            <p class="label-quiet">expected {f.want} – {f.ref}</p>
          </li>
        {/each}
      </ul>
    {/if}
  {:else if !error}
    <p class="label-quiet rounded-box bg-base-200 px-4 py-5 text-center">
      The inspector follows a stream as a player would, and tells what breaks the standards or a player.
    </p>
  {/if}
</div>
