<script lang="ts">
  // A page that sends camera, microphone or screen of whoever opens it into a channel.
  import { onDestroy } from "svelte";
  import { askPublic } from "../lib/api";
  import { bitrate } from "../lib/format";
  import { Sending } from "../lib/whip";

  const slug = decodeURIComponent(location.pathname.split("/")[2] ?? "");
  const key = decodeURIComponent(location.hash.slice(1)); // it never reaches a server's log
  const codec = new URLSearchParams(location.search).get("codec") ?? "";
  let title = $state(slug);
  let missing = $state(false);
  let several = $state(new URLSearchParams(location.search).has("sizes"));
  let source = $state<"camera" | "screen">("camera");
  let stream = $state<MediaStream | undefined>();
  let sending = $state<Sending | undefined>();
  let phase = $state("");
  let trouble = $state("");
  let muted = $state(false);
  let rate = $state(0);
  let size = $state("");
  let video = $state<HTMLVideoElement>();
  let beside = $state(false); // what viewers see stands beside the own picture
  const secure = window.isSecureContext;

  void askPublic(slug).then((c) => {
    missing = c.state === "missing";
    if (c.title) document.title = title = c.title;
  });

  $effect(() => {
    if (video && stream) video.srcObject = stream;
  });

  async function show(kind: "camera" | "screen") {
    trouble = "";
    source = kind;
    try {
      const next =
        kind === "screen"
          ? await navigator.mediaDevices.getDisplayMedia({ video: { frameRate: 30 }, audio: true })
          : await navigator.mediaDevices.getUserMedia({
              video: { width: { ideal: 1280 }, height: { ideal: 720 }, frameRate: { ideal: 30 } },
              audio: { echoCancellation: false, noiseSuppression: false, channelCount: 2 },
            });
      if (kind === "screen" && !next.getAudioTracks().length) {
        const mic = await navigator.mediaDevices.getUserMedia({ audio: true }).catch(() => undefined);
        for (const t of mic?.getAudioTracks() ?? []) next.addTrack(t);
      }
      for (const t of stream?.getTracks() ?? []) t.stop();
      stream = next;
      if (sending) for (const t of next.getTracks()) await sending.replace(t);
    } catch (e) {
      trouble =
        e instanceof DOMException && e.name === "NotAllowedError"
          ? "The browser was not allowed to use the camera or microphone. Allow it beside the address, then try again."
          : `There is no ${kind} that can be used: ${(e as Error).message}`;
    }
  }

  let watch: ReturnType<typeof setInterval> | undefined;
  async function start() {
    if (!stream) await show(source);
    if (!stream) return;
    trouble = "";
    phase = "connecting";
    const s = new Sending(`/whip/${encodeURIComponent(slug)}`, key, (state) => {
      phase = state;
      if (state === "failed") {
        trouble =
          "The line to the service was lost. Start again; if it does not help, a firewall may be between.";
        stop();
      }
    });
    sending = s;
    try {
      await s.start(stream, codec, several);
    } catch (e) {
      trouble = (e as Error).message;
      stop();
      return;
    }
    let bytes = 0;
    watch = setInterval(async () => {
      let now = 0;
      (await s.connection.getStats()).forEach((r) => {
        if (r.type !== "outbound-rtp") return;
        now += r.bytesSent;
        if (r.kind === "video" && r.frameWidth)
          size = `${r.frameWidth}×${r.frameHeight}, ${Math.round(r.framesPerSecond ?? 0)} fps`;
      });
      rate = bytes ? (now - bytes) * 8 : 0;
      bytes = now;
    }, 1000);
    Object.assign(window, { sending: s }); // for programs that measure
  }
  function stop() {
    clearInterval(watch);
    sending?.stop();
    sending = undefined;
    phase = "";
    rate = 0;
  }
  function mute() {
    muted = !muted;
    for (const t of stream?.getAudioTracks() ?? []) t.enabled = !muted;
  }
  onDestroy(stop);
</script>

<svelte:window onpagehide={stop} />

<main class="mx-auto grid min-h-screen max-w-4xl content-start gap-4 p-4 sm:p-8">
  <header class="flex items-center gap-3">
    <img src="/icon.svg" alt="" class="size-7" />
    <h1 class="truncate text-lg font-semibold">{title}</h1>
    {#if phase === "connected"}
      <span class="rounded-selector bg-accent text-accent-content px-2 py-0.5 text-xs font-semibold"
        >On air</span
      >
    {/if}
  </header>
  {#if missing}
    <p class="border-error bg-error/15 border-l-3 px-3 py-2">There is no such channel. Ask for a new link.</p>
  {:else if !key}
    <p class="border-error bg-error/15 border-l-3 px-3 py-2">
      The link has no key at its end. Ask whoever sent it for a whole one.
    </p>
  {:else if !secure}
    <p class="border-error bg-error/15 border-l-3 px-3 py-2">
      Browsers give cameras only to pages over HTTPS. Open this page by https.
    </p>
  {/if}
  <div class={["grid gap-3", beside && "sm:grid-cols-2"]}>
    <div class="rounded-box relative aspect-video overflow-hidden bg-black">
      <video bind:this={video} autoplay muted playsinline class="size-full object-contain"></video>
      {#if !stream}
        <p class="absolute inset-0 grid place-items-center px-6 text-center text-white/70">
          Your picture is shown here before anybody else sees it.
        </p>
      {/if}
    </div>
    {#if beside}
      {#await import("../player/index") then}
        <metaplasis-player channel={slug} way="webrtc" class="rounded-box overflow-hidden" data-beside
        ></metaplasis-player>
      {/await}
    {/if}
  </div>
  {#if trouble}<p class="border-warning bg-warning/15 border-l-3 px-3 py-2" role="alert">{trouble}</p>{/if}
  <div class="flex flex-wrap items-center gap-2">
    <div class="join" role="group" aria-label="What to send">
      {#each [["camera", "Camera and microphone"], ["screen", "Screen"]] as const as [kind, name] (kind)}
        <button
          class={["btn join-item", stream && source === kind && "btn-active"]}
          disabled={!secure}
          onclick={() => show(kind)}>{name}</button
        >
      {/each}
    </div>
    <button class="btn" disabled={!stream} aria-pressed={muted} onclick={mute}
      >{muted ? "Unmute" : "Mute"}</button
    >
    <label
      class="flex items-center gap-2 text-sm"
      title="Smaller pictures are made here and need not be made at the other end; it takes a good line and a strong machine."
      ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={several} disabled={!!sending} /> Smaller
      sizes too</label
    >
    <label class="flex items-center gap-2 text-sm" title="Without sound, so that it is not heard twice."
      ><input
        type="checkbox"
        class="checkbox checkbox-sm"
        bind:checked={beside}
        disabled={!sending && !beside}
      /> What viewers see</label
    >
    <span class="flex-1"></span>
    {#if sending}
      <button class="btn btn-error" onclick={stop}>Stop sending</button>
    {:else}
      <button class="btn btn-primary" disabled={!key || !secure || missing} onclick={start}>Go on air</button>
    {/if}
  </div>
  <p class="label-quiet" role="status" data-phase={phase}>
    {#if phase === "connected"}
      Sending {size}
      {rate ? `at ${bitrate(rate)}` : ""}. Close the page or press Stop to end.
    {:else if phase === "connecting"}
      Connecting …
    {:else}
      Nothing is sent until you press Go on air.
    {/if}
  </p>
</main>
