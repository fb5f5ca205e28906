<script lang="ts">
  // What is on the studio's network, each with a small picture, to be picked by name.
  import { bitrate } from "../lib/format";
  import { live, Followed } from "../lib/live.svelte";
  import type { Source, Studio } from "../lib/types";
  import Trouble from "./Trouble.svelte";
  let {
    taken = [],
    busy = false,
    pick,
    verb = "Use",
  }: { taken?: string[]; busy?: boolean; pick: (s: Source) => void; verb?: string } = $props();
  const followed = new Followed<Studio>(() => "/studio");
  const studio = $derived(followed.value);
  const error = $derived(followed.error);
  const turn = $derived(Math.floor(live.now / 9000)); // of the pictures: each is asked for again
  let blank = $state<Record<string, boolean>>({});

  $effect(() => {
    void turn;
    blank = {};
  });
  const pictured = (s: Source) =>
    !blank[s.id] && s.via === "SAP" && !s.problem && s.tracks.some((t) => t.kind === 1);
  const used = (s: Source) => taken.includes(s.name) || taken.includes(s.id);
</script>

<section class="grid gap-2" aria-label="Sources on the network" data-sources>
  {#if !studio && !error}
    <p class="label-quiet" aria-live="polite">Listening to the network …</p>
  {:else if studio && !studio.on}
    <p class="label-quiet">
      The service does not look at the studio’s network. Start it with <code class="font-mono">--studio</code>
      and the name of its interface, such as <code class="font-mono">--studio eth0</code>.
    </p>
  {:else if studio && studio.sources.length === 0}
    <p class="label-quiet">
      Nothing is announced on the network now. Sources appear by themselves, within some seconds of their
      announcement.
    </p>
  {:else if studio}
    <ul class="grid grid-cols-[repeat(auto-fill,minmax(15rem,1fr))] gap-2">
      {#each studio.sources as s (s.id)}
        <li class="rounded-box border-base-300 bg-base-100 overflow-hidden border" data-source={s.name}>
          <div class="bg-neutral text-neutral-content relative flex aspect-video items-center justify-center">
            {#if pictured(s)}
              <img
                class="h-full w-full object-contain"
                src="/api/v1/studio/{s.id}/picture?at={turn}"
                alt="What {s.name} sends"
                onerror={() => (blank = { ...blank, [s.id]: true })}
              />
            {:else}
              <span class="px-3 text-center text-sm"
                >{s.tracks.length && s.tracks.every((t) => t.kind === 2)
                  ? "Sound alone"
                  : "No picture before a channel has it"}</span
              >
            {/if}
            {#if s.quiet}
              <span class="badge badge-warning badge-sm absolute top-2 left-2">not announced any more</span>
            {/if}
          </div>
          <div class="flex items-start gap-2 p-2">
            <div class="min-w-0 flex-1">
              <p class="truncate font-medium" title={s.name}>{s.name}</p>
              {#each s.tracks as t, n (n)}<p class="label-quiet">{t.text}</p>{/each}
              <p class="label-quiet">{s.bitrate ? `${bitrate(s.bitrate)}, ` : ""}{s.via} from {s.from}</p>
              {#if s.problem}<p class="text-error text-sm">{s.problem}.</p>{/if}
            </div>
            {#if used(s)}
              <span class="label-quiet pt-1">an input here</span>
            {:else}
              <button
                type="button"
                class="btn btn-sm"
                disabled={busy || !!s.problem}
                aria-label="{verb} {s.name}"
                onclick={() => pick(s)}>{verb}</button
              >
            {/if}
          </div>
        </li>
      {/each}
    </ul>
  {/if}
  {#each studio?.wrong ?? [] as text (text)}<p class="text-warning text-sm">{text}.</p>{/each}
  <Trouble {error} />
</section>
