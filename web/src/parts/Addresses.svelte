<script lang="ts">
  import type { Addresses, Settings } from "../lib/types";
  import { type Way, ways } from "../lib/ways";
  import CopyField from "./CopyField.svelte";
  let {
    addresses: a,
    settings,
    way,
    play,
  }: { addresses: Addresses; settings: Settings; way: Way; play: (w: Way) => void } = $props();
  const of: Record<Way, string | undefined> = $derived({
    webrtc: a.webrtc,
    websocket: a.socket,
    webtransport: a.socket.replace(/^wss?:/, "https:"),
    "ll-hls": a.hls,
    hls: a.hls,
    "ll-dash": a.lowDash,
    dash: a.dash,
    ts: a.ts,
    native: a.hls,
  });
</script>

<div class="grid gap-4 p-4">
  <ul class="grid gap-2" aria-label="Formats">
    {#each ways as w (w.way)}
      <li
        class={[
          "rounded-box grid grid-cols-[1fr_auto] items-center gap-x-3 border px-3 py-2",
          way === w.way ? "border-primary bg-primary/8" : "border-base-300",
        ]}
      >
        <div class="min-w-0">
          <p class="text-sm font-medium">{w.name} <span class="label-quiet">with {w.player}</span></p>
          <p class="label-quiet truncate font-mono" title={of[w.way]}>
            {of[w.way] ?? (w.way === "webrtc" ? "turned off on this service" : "turned off in the packaging")}
          </p>
        </div>
        <button
          class={["btn btn-xs", way === w.way && "btn-primary"]}
          disabled={!of[w.way]}
          aria-pressed={way === w.way}
          data-play={w.way}
          title={w.says}
          onclick={() => play(w.way)}>{way === w.way ? "Playing" : "Play"}</button
        >
      </li>
    {/each}
  </ul>
  {#each a.selections as s (s.name)}
    <div class="grid gap-2">
      <p class="text-sm font-medium">Selection {s.name}</p>
      <CopyField label="HLS" value={s.hls} />
      <CopyField label="DASH" value={s.dash} />
    </div>
  {/each}
  <CopyField label="Player for viewers" value={a.watch} />
  <CopyField
    label="HLS playlist"
    value={a.hls}
    hint="For players and set-top boxes. It names every rendition that is on."
  />
  <CopyField label="DASH manifest" value={a.dash} />
  <CopyField label="DASH manifest for low latency" value={a.lowDash} />
  {#if settings.outputs.ts && a.ts}<CopyField label="HLS in transport streams" value={a.ts} />{/if}
  <CopyField label="Code to put into a web page" value={a.code} lines />
  <CopyField label="Preview picture" value={a.picture} hint="A small JPEG, new every two seconds." />
  <p><a class="btn btn-sm" href={a.watch} target="_blank" rel="noopener">Open the player</a></p>
</div>
