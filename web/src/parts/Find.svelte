<script lang="ts">
  // Finding a moment: a strip of pictures that one looks closer into, markers, and a clip between two moments.
  import "../player/index";
  import { call } from "../lib/api";
  import { clock, isoTime, span } from "../lib/format";
  import { live } from "../lib/live.svelte";
  import type { Playback } from "../lib/play.svelte";
  import type { Channel, Marker, Recording, Status } from "../lib/types";
  import Trouble from "./Trouble.svelte";
  let { channel, status }: { channel: Channel; status: Status } = $props();
  const slug = $derived(channel.settings.slug);
  let recordings = $state<Recording[]>([]);
  let markers = $state<Marker[]>([]);
  let of = $state(location.hash.split("/")[5] ?? ""); // a recording's number, "" for the time-shift
  let from = $state(0);
  let until = $state(0);
  let at = $state(0); // what is played
  let begin = $state(0);
  let end = $state(0);
  let error = $state<unknown>();
  let said = $state("");
  let player = $state.raw<(HTMLElement & { playback?: Playback }) | undefined>();
  const pictures = 12;

  $effect(() => {
    call<Recording[]>("GET", `/recordings?channel=${slug}`).then(
      (l) => ((recordings = l.filter((r) => r.kept.length)), whole()),
      (e) => (error = e),
    );
    call<Marker[]>("GET", `/channels/${slug}/markers`).then(
      (l) => (markers = l),
      () => {},
    );
  });
  const recording = $derived(recordings.find((r) => String(r.id) === of));
  /** whole shows all of what is looked through. */
  function whole() {
    const r = recordings.find((x) => String(x.id) === of);
    const minutes = channel.settings.keeping.timeShiftMinutes ?? 0;
    until = r?.ended ? Date.parse(r.ended) : Date.now();
    from = r
      ? Date.parse(r.begun)
      : Math.max(Date.parse(status.kept?.oldest ?? isoTime(until)), until - minutes * 60_000);
  }
  const places = $derived(
    Array.from({ length: pictures }, (_, i) => from + ((until - from) * (i + 0.5)) / pictures),
  );
  const picture = (t: number) =>
    `/media/${slug}/picture.jpg?time=${isoTime(Math.round(t / 1000) * 1000)}${recording ? `&recording=${recording.name}` : ""}`;
  /** closer looks into what lies around a time. */
  function closer(t: number) {
    at = t;
    const width = Math.max((until - from) / 4, 60_000); // pictures lie some seconds apart
    if (width >= until - from) return;
    from = Math.min(Math.max(t - width / 2, from), until - width);
    until = from + width;
  }
  function use(node: HTMLElement) {
    player = node;
  }
  /** here is the time of the picture on screen. */
  const here = () => Date.now() - (player?.playback?.behind ?? 0) * 1000;
  const query = $derived(
    `${recording ? `recording=${recording.name}&` : ""}from=${isoTime(begin)}&to=${isoTime(end)}`,
  );
  const rendition = $derived(
    recording?.mp4?.split("/").pop()?.split(".mp4")[0] ??
      status.renditions.find((r) => r.kind === "video")?.name,
  );
  async function keep() {
    error = undefined;
    said = "";
    try {
      const r = await call<Recording>("POST", `/channels/${slug}/recordings`, {
        title: `Clip of ${channel.settings.title}, ${clock(isoTime(begin))}`,
        from: isoTime(begin),
        to: isoTime(end),
      });
      said = `Kept as “${r.title}”.`;
    } catch (e) {
      error = e;
    }
  }
  const shown = $derived(
    markers.filter((m) => Date.parse(m.at) >= from && Date.parse(m.at) <= until).slice(-30),
  );
</script>

<div class="grid gap-4 p-4" data-find>
  <div class="flex flex-wrap items-center gap-2">
    <select
      class="select select-sm w-auto max-w-full"
      aria-label="Look through"
      bind:value={of}
      onchange={() => {
        at = 0;
        whole();
      }}
    >
      <option value="">the time-shift</option>
      {#each recordings as r (r.id)}<option value={String(r.id)}>{r.title}</option>{/each}
    </select>
    <span class="label-quiet"
      >{clock(isoTime(from))} to {clock(isoTime(until))}, {span((until - from) / 1000)}</span
    >
    <button class="btn btn-xs ml-auto" onclick={whole}>All of it</button>
  </div>
  <div class="grid grid-cols-4 gap-1 sm:grid-cols-6" role="group" aria-label="Pictures">
    {#each places as t, i (i)}
      <button
        class="group relative"
        onclick={() => closer(t)}
        aria-label="Look closer at {clock(isoTime(t))}"
      >
        <img
          src={picture(t)}
          alt=""
          class="bg-base-300 rounded-field aspect-video w-full object-cover group-hover:brightness-110"
          onerror={(e) => ((e.currentTarget as HTMLImageElement).style.opacity = "0")}
          onload={(e) => ((e.currentTarget as HTMLImageElement).style.opacity = "")}
        />
        <span class="rounded-selector absolute bottom-0.5 left-0.5 bg-black/65 px-1 text-[0.65rem] text-white"
          >{clock(isoTime(t))}</span
        >
      </button>
    {/each}
  </div>
  {#if shown.length}
    <ul class="flex flex-wrap gap-1" aria-label="Markers">
      {#each shown as m (m.id)}
        <li>
          <button class="btn btn-xs" onclick={() => (at = Date.parse(m.at))} data-marker={m.id}
            >{clock(m.at)} {m.class} {m.text ?? ""}</button
          >
        </li>
      {/each}
    </ul>
  {/if}
  {#if at}
    {#key at}
      <div class="rounded-box overflow-hidden">
        <metaplasis-player
          {@attach use}
          channel={slug}
          from={isoTime(at)}
          recording={recording?.name ?? ""}
          muted="yes"
        ></metaplasis-player>
      </div>
    {/key}
    <div class="flex flex-wrap items-center gap-2">
      <button class="btn btn-sm" onclick={() => (begin = here())}>Begin here</button>
      <button class="btn btn-sm" onclick={() => (end = here())}>End here</button>
      {#if begin && end > begin}
        <span class="label-quiet"
          >{clock(isoTime(begin))} to {clock(isoTime(end))}, {span((end - begin) / 1000)}</span
        >
        <span class="flex-1"></span>
        <a class="btn btn-sm btn-primary" href="/media/{slug}/{rendition}.mp4?{query}" download>Clip as MP4</a
        >
        <a
          class="btn btn-sm"
          href="/media/{slug}/{rendition}.mp4?{query}&edges=coded"
          title="Its edges are re-encoded: the file contains nothing that is not shown."
          download>Cut exactly</a
        >
        <button class="btn btn-sm" onclick={keep}>Keep it</button>
      {:else}
        <span class="label-quiet"
          >{begin && end
            ? "The end lies before the beginning."
            : "Play to where the clip begins, then to where it ends."}</span
        >
      {/if}
    </div>
    {#if said}<p class="text-success text-sm" role="status">{said}</p>{/if}
  {:else}
    <p class="label-quiet">Choose a picture: it plays from there, and the strip shows what lies around it.</p>
  {/if}
  <Trouble {error} />
  {#if live.now && from >= until}<p class="label-quiet">Nothing is kept yet.</p>{/if}
</div>
