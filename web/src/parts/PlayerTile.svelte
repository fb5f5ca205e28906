<script lang="ts">
  // One of several players, and what it says of itself.
  import "../player/index";
  import { behind } from "../lib/format";
  import { live } from "../lib/live.svelte";
  import type { Playback } from "../lib/play.svelte";
  import { ways } from "../lib/ways";
  let { channel, way, remove }: { channel: string; way: string; remove: () => void } = $props();
  let playback = $state.raw<Playback | undefined>();
  const status = $derived(live.channel(channel));

  /** use takes what plays once the element is there. */
  function use(node: HTMLElement) {
    const take = () => (playback = (node as HTMLElement & { playback?: Playback }).playback);
    node.addEventListener("message", take);
    return () => node.removeEventListener("message", take);
  }
  const name = (w?: string) => ways.find((x) => x.way === w)?.name ?? "";
</script>

<section class="panel overflow-hidden" aria-label="{channel}, {way}" data-tile={way}>
  <metaplasis-player {@attach use} {channel} {way}></metaplasis-player>
  <div class="flex items-start gap-3 px-3 pt-2">
    <p class="min-w-0 flex-1 truncate text-sm font-medium">
      {status?.title ?? channel}
      <span class="label-quiet">{name(playback?.way ?? way)}{way === "auto" ? ", chosen by itself" : ""}</span
      >
    </p>
    <button class="btn btn-ghost btn-xs" onclick={remove} aria-label="Remove this player">Remove</button>
  </div>
  <dl class="grid grid-cols-4 gap-2 px-3 pb-3 text-sm tabular-nums">
    <div>
      <dt class="label-quiet">{playback?.delay ? "Camera to page" : "Behind live"}</dt>
      <dd class="font-medium" data-delay>
        {playback?.delay ? `${(playback.delay.median / 1000).toFixed(2)} s` : behind(playback?.behind ?? NaN)}
      </dd>
    </div>
    <div>
      <dt class="label-quiet">In hand</dt>
      <dd>{playback && !playback.message ? `${playback.buffered.toFixed(2)} s` : "–"}</dd>
    </div>
    <div>
      <dt class="label-quiet">Rung</dt>
      <dd class="truncate">{playback?.showing || "–"}</dd>
    </div>
    <div>
      <dt class="label-quiet">Stalls</dt>
      <dd>{playback?.stalls ?? 0}</dd>
    </div>
  </dl>
</section>
