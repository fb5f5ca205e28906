<script lang="ts">
  import Operate from "../parts/Operate.svelte";
  import { call } from "../lib/api";
  import { ago, bitrate, clock, frames, level, megabytes, percent } from "../lib/format";
  import { tabs as arrows } from "../lib/tabs";
  import { live } from "../lib/live.svelte";
  import { track, tracks } from "../lib/words";
  import type { Channel } from "../lib/types";
  import OutputsPage from "../parts/OutputsPage.svelte";
  import EventList from "../parts/EventList.svelte";
  import Fact from "../parts/Fact.svelte";
  import Inspector from "../parts/Inspector.svelte";
  import KeptPage from "../parts/KeptPage.svelte";
  import LadderPage from "../parts/LadderPage.svelte";
  import Player from "../parts/Player.svelte";
  import InputsPage from "../parts/InputsPage.svelte";
  import SettingsForm from "../parts/SettingsForm.svelte";
  import Charts from "../parts/Charts.svelte";
  import StateBadge from "../parts/StateBadge.svelte";
  import Timeline from "../parts/Timeline.svelte";
  import Trouble from "../parts/Trouble.svelte";
  import type { Way } from "../lib/ways";

  let { slug, tab, section }: { slug: string; tab: string; section: string } = $props();
  let channel = $state<Channel | undefined>();
  let error = $state<unknown>();
  const load = () =>
    call<Channel>("GET", `/channels/${slug}`).then(
      (c) => ((channel = c), (error = undefined)),
      (e) => (error = e),
    );
  $effect(() => void load());

  const status = $derived(live.channel(slug) ?? channel?.status);
  const tabs = [
    ["inputs", "Inputs"],
    ["ladder", "Ladder"],
    ["addresses", "Outputs"],
    ["kept", "Kept"],
    ["timeline", "Health"],
    ["events", "Events"],
    ["settings", "Settings"],
  ];
  const shown = $derived(tab === "inspector" ? "timeline" : tab); // the tab of a page
  let way = $state<Way>("ll-hls");
  const viewers = $derived(Object.entries(status?.viewers ?? {}).sort());
  const total = $derived(viewers.reduce((n, [, v]) => n + v, 0));
</script>

{#if error}
  <Trouble {error} />
  <a class="btn btn-sm mt-3" href="#/channels">All channels</a>
{:else if !channel || !status}
  <div class="grid gap-4 xl:grid-cols-2" aria-busy="true">
    <div class="skeleton aspect-video"></div>
    <div class="skeleton h-64"></div>
  </div>
{:else}
  <div class="mb-3 flex flex-wrap items-center gap-x-3 gap-y-1">
    <a href="#/channels" class="link link-hover label-quiet">Channels</a>
    <h1 class="text-lg font-semibold">{status.title}</h1>
    <StateBadge state={status.state} />
    <span class="label-quiet">{slug}</span>
    <span class="label-quiet ml-auto" title={viewers.map(([p, n]) => `${n} ${p}`).join(", ")} data-viewers
      >{total}
      {total === 1 ? "viewer" : "viewers"}{total
        ? `: ${viewers.map(([p, n]) => `${n} ${p}`).join(", ")}`
        : ""}</span
    >
  </div>
  {#each status.problems as p (p.text)}
    <p class="border-warning rounded-field bg-warning/15 mb-3 border-l-3 px-3 py-2 text-sm" role="alert">
      {p.text}
    </p>
  {/each}
  <div
    class={[
      "grid items-start gap-4",
      tab === "ladder"
        ? "xl:grid-cols-[minmax(0,3fr)_minmax(0,8fr)]"
        : "lg:grid-cols-2 min-[1700px]:grid-cols-[minmax(0,6fr)_minmax(0,5fr)]",
    ]}
  >
    <div class={["grid gap-4", tab === "ladder" && "max-xl:hidden"]}>
      <Player {slug} {way} />
      <section class="panel p-3" aria-label="Feed">
        {#if status.feed}
          <dl class={["grid grid-cols-2 gap-3", tab !== "ladder" && "sm:grid-cols-4"]}>
            <Fact label="In over {status.feed.protocol}" value={bitrate(status.feed.bitrate)} />
            <Fact label="Frame rate" value={frames(status.feed.frameRate)} />
            <Fact label="From" value={status.feed.remote} />
            <Fact label="Connected" value={ago(status.feed.begun, live.now)} />
            {#if status.feed.tracks.length <= 2}
              <div class="col-span-2"><Fact label="Tracks" value={tracks(status.feed.tracks)} /></div>
            {:else}
              <div class="col-span-full" data-tracks>
                <dt class="label-quiet">Tracks</dt>
                {#each status.feed.tracks as t, i (i)}<dd class="truncate text-sm font-medium">
                    {track(t)}
                  </dd>{/each}
              </div>
            {/if}
            <Fact label="Worker, of a core" value={percent(status.worker?.cpu)} />
            <Fact label="Pictures left out" value={String(status.worker?.dropped ?? 0)} />
            <Fact label="Worker load" value={percent(status.worker?.load)} />
            <Fact label="Loudness, 3 s" value={level(status.worker?.loudness?.shortTerm, "LUFS")} />
            <Fact label="True peak" value={level(status.worker?.loudness?.peak, "dB")} />
            <div class="col-span-2">
              <Fact
                label="Sender’s clock"
                value={status.feed.driftKnown
                  ? `${Math.abs(status.feed.driftPPM)} ppm ${status.feed.driftPPM < 0 ? "slow" : "fast"}, followed`
                  : "being measured"}
              />
            </div>
          </dl>
        {:else}
          {#if status.lastFeed}
            <p class="text-sm">
              No sender since {clock(status.lastFeed.ended)}, {ago(status.lastFeed.ended, live.now)} ago.
            </p>
            <p class="label-quiet mt-1">
              The last one came from {status.lastFeed.remote}: {status.lastFeed.reason}.
            </p>
          {:else}
            <p class="label-quiet">
              No sender is connected. Put the server and a key from the Inputs tab into an encoder and start
              it.
            </p>
          {/if}
        {/if}
        <p class="label-quiet mt-3">
          Segments hold {megabytes(status.memory)}; the channel can take {megabytes(status.memoryBound)} at most.
        </p>
      </section>
    </div>
    <div class="grid min-w-0 gap-4">
      <section class="panel min-w-0">
        <div
          role="tablist"
          class="border-base-300 flex gap-1 overflow-x-auto border-b px-2 pt-2"
          aria-label="Channel"
          {@attach arrows}
        >
          {#each tabs as [key, text] (key)}
            <a
              role="tab"
              href="#/channels/{slug}/{key}"
              aria-selected={shown === key}
              tabindex={shown === key ? 0 : -1}
              class={[
                "rounded-t-field border-b-2 px-3 py-1.5 text-sm",
                shown === key ? "border-primary font-medium" : "hover:bg-base-200 border-transparent",
              ]}>{text}</a
            >
          {/each}
        </div>
        <div role="tabpanel" class="min-w-0">
          {#if tab === "ladder"}
            <LadderPage {slug} {section} {status} changed={load} />
          {:else if tab === "addresses"}
            <OutputsPage {channel} {section} {status} {way} play={(w) => (way = w)} />
          {:else if tab === "kept"}
            <KeptPage {channel} {section} {status} changed={load} />
          {:else if shown === "timeline"}
            <nav class="flex flex-wrap gap-1 px-3 pt-2" aria-label="Health">
              {#each [["timeline", "Timeline"], ["inspector", "Inspector"]] as [key, text] (key)}
                <a
                  href="#/channels/{slug}/{key}"
                  aria-current={tab === key ? "page" : undefined}
                  class={["btn btn-xs", tab === key ? "btn-primary" : "btn-ghost"]}>{text}</a
                >
              {/each}
            </nav>
            {#if tab === "inspector"}<Inspector addresses={channel.addresses} />{:else}<Timeline
                {slug}
              />{/if}
          {:else if tab === "events"}
            <EventList events={live.events.filter((e) => e.channel === slug)} />
          {:else if tab === "settings"}
            <Operate><SettingsForm {channel} changed={load} /></Operate>
          {:else}
            <InputsPage {channel} {section} {status} changed={load} />
          {/if}
        </div>
      </section>
      {#if tab !== "ladder"}<Charts {slug} />{/if}
    </div>
  </div>
{/if}
