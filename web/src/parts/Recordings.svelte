<script lang="ts">
  // The recordings of a channel: begun, running, and those that there are.
  import Operate from "./Operate.svelte";
  import { session } from "../lib/session.svelte";
  import "../player/index";
  import { call } from "../lib/api";
  import { bytes, clock, day, span } from "../lib/format";
  import { Followed, live } from "../lib/live.svelte";
  import type { Channel, Recording } from "../lib/types";
  import Trouble from "./Trouble.svelte";
  let { channel }: { channel: Channel } = $props();
  const slug = $derived(channel.settings.slug);
  const followed = new Followed<Recording[]>(() => `/recordings?channel=${slug}`);
  const list = $derived(followed.value);
  let failed = $state<unknown>(); // of what was done here
  const error = $derived(failed ?? followed.error);
  let title = $state("");
  let back = $state("");
  let playing = $state(""); // the name of a recording
  async function act(method: string, path: string, body?: object) {
    failed = undefined;
    try {
      await call(method, path, body);
    } catch (e) {
      failed = e;
    }
    await followed.refresh();
  }
  function begin(e: SubmitEvent) {
    e.preventDefault();
    void act("POST", `/channels/${slug}/recordings`, { title, from: back });
    title = "";
  }
  const words: Record<string, string> = {
    planned: "badge-ghost",
    recording: "badge-error",
    complete: "badge-ghost",
    empty: "badge-warning",
  };
  const lasts = (r: Recording) =>
    ((r.ended ? Math.min(Date.parse(r.ended), live.now) : live.now) - Date.parse(r.begun)) / 1000;
  const backs = [
    ["", "from now on"],
    ["1m", "from 1 min ago"],
    ["5m", "from 5 min ago"],
    ["15m", "from 15 min ago"],
    ["marker", "from the last marker"],
  ];
</script>

<div class="grid gap-4 p-4" data-recordings>
  <Operate
    ><form class="flex flex-wrap items-end gap-2" onsubmit={begin}>
      <div class="min-w-40 flex-1">
        <label class="label-quiet mb-1 block" for="rt">Title</label>
        <input
          id="rt"
          class="input input-sm w-full"
          placeholder={channel.settings.title}
          bind:value={title}
          maxlength="200"
        />
      </div>
      <select class="select select-sm w-auto" bind:value={back} aria-label="Where it begins">
        {#each backs as [v, text] (v)}<option value={v}>{text}</option>{/each}
      </select>
      <button class="btn btn-sm btn-primary"><span class="bg-error size-2 rounded-full"></span>Record</button>
    </form></Operate
  >
  <Trouble {error} />
  {#if playing}
    <div class="rounded-box overflow-hidden">
      <metaplasis-player channel={slug} recording={playing}></metaplasis-player>
    </div>
  {/if}
  {#if !list}
    <div class="skeleton h-24"></div>
  {:else if list.length === 0}
    <p class="label-quiet py-6 text-center">
      Nothing is recorded. A recording holds what is on air from when it begins; with a time-shift it can
      begin in the past.
    </p>
  {:else}
    <ul class="divide-base-300 divide-y">
      {#each list as r (r.id)}
        <li class="flex flex-wrap items-center gap-x-3 gap-y-2 py-2" data-recording={r.id}>
          {#if r.kept.length}
            <button
              class="relative shrink-0"
              onclick={() => (playing = playing === r.name ? "" : r.name)}
              aria-label={playing === r.name ? `Close ${r.title}` : `Play ${r.title}`}
            >
              <img
                src="/media/{slug}/picture.jpg?time={new Date(
                  Date.parse(r.begun) + 6000,
                ).toISOString()}&recording={r.name}"
                alt=""
                class="bg-base-300 rounded-field h-14 w-25 object-cover"
                onerror={(e) => ((e.currentTarget as HTMLImageElement).style.visibility = "hidden")}
              />
              <span
                class="rounded-selector absolute inset-0 m-auto grid size-7 place-items-center bg-black/60 text-xs text-white"
                aria-hidden="true">{playing === r.name ? "✕" : "▶"}</span
              >
            </button>
          {/if}
          <div class="min-w-40 flex-1">
            <p class="truncate text-sm font-medium">{r.title}</p>
            <p class="label-quiet">
              <span class={["badge badge-xs", words[r.state]]}>{r.state}</span>
              {clock(r.begun)}{day(r.begun)}{r.ended ? ` to ${clock(r.ended)}` : ""}, {span(
                Math.max(0, lasts(r)),
              )},
              {bytes(r.bytes)}{r.expires ? `, until ${new Date(r.expires).toLocaleDateString()}` : ""}
            </p>
          </div>
          <div class="flex flex-wrap gap-1">
            {#if r.state === "recording" && session.operates}
              <button class="btn btn-xs" onclick={() => act("POST", `/recordings/${r.id}/stop`)}>Stop</button>
            {/if}
            {#if r.kept.length}
              <a class="btn btn-xs" href="#/channels/{slug}/kept/find/{r.id}">Find and clip</a>
            {/if}
            {#if r.mp4 && r.state === "complete"}
              <a class="btn btn-xs" href={r.mp4} download>MP4</a>
              <a class="btn btn-xs" href={r.mp4.replace(".mp4?", ".ts?")} download>TS</a>
            {/if}
            {#if session.operates}<button
                class="btn btn-xs btn-ghost"
                onclick={() =>
                  confirm(`Remove ${r.title}? What nothing else keeps is deleted.`) &&
                  act("DELETE", `/recordings/${r.id}`)}
                aria-label="Remove {r.title}">Remove</button
              >{/if}
          </div>
        </li>
      {/each}
    </ul>
  {/if}
</div>
