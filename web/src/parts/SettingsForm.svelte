<script lang="ts">
  import { untrack } from "svelte";
  import { call } from "../lib/api";
  import { consequences, readSelections, writeSelections } from "../lib/packaging";
  import type { Channel } from "../lib/types";
  import Trouble from "./Trouble.svelte";
  let { channel, changed }: { channel: Channel; changed: () => void } = $props();
  // Once something is typed, the form is not filled again: an update must not replace it. So the values at its begin are what is meant.
  let touched = false;
  // svelte-ignore state_referenced_locally
  let s = $state($state.snapshot(channel.settings));
  // svelte-ignore state_referenced_locally
  let selections = $state(writeSelections(channel.settings.outputs.selections));
  // svelte-ignore state_referenced_locally
  let revision = $state(channel.revision); // that the form is filled from
  let error = $state<unknown>();
  let said = $state("");
  $effect(() => {
    if (touched || channel.revision <= untrack(() => revision)) return;
    s = $state.snapshot(channel.settings);
    selections = writeSelections(channel.settings.outputs.selections);
    revision = channel.revision;
  });

  async function change(body: object, text: string) {
    error = undefined;
    said = "";
    try {
      const now = await call<Channel>("PATCH", `/channels/${s.slug}`, { ...body, revision });
      revision = now.revision;
      touched = false;
      said = text;
      changed();
    } catch (e) {
      error = e;
    }
  }
  function save(e: SubmitEvent) {
    e.preventDefault();
    void change(
      {
        title: s.title,
        packaging: {
          ...s.packaging,
          startOffsetMillis: s.packaging.startOffsetMillis ?? 0,
          unpackaged: s.packaging.unpackaged ?? false,
        },
        access: { receivers: s.access.receivers ?? false, listed: s.access.listed ?? false },
        switching: {
          frozenSeconds: s.switching.frozenSeconds ?? 0,
          blackSeconds: s.switching.blackSeconds ?? 0,
          silentSeconds: s.switching.silentSeconds ?? 0,
          lossySeconds: s.switching.lossySeconds ?? 0,
        },
        outputs: { ts: s.outputs.ts ?? false, selections: readSelections(selections) },
      },
      "Takes effect at the next segment.",
    );
  }
  function close() {
    if (
      !s.access.closed &&
      !confirm(`Close ${s.title}? Its sender is disconnected, and playlists end for good.`)
    )
      return;
    s.access.closed = !s.access.closed;
    void change(
      { access: { closed: s.access.closed } },
      s.access.closed ? "The channel is closed." : "The channel is open again.",
    );
  }
  async function remove() {
    if (!confirm(`Remove ${s.title}? Its sender is disconnected and viewers lose it.`)) return;
    try {
      await call("DELETE", `/channels/${s.slug}`);
      location.hash = "/channels";
    } catch (e) {
      error = e;
    }
  }
  const words = $derived(consequences(s.packaging));
  const faults = [
    ["frozenSeconds", "stands still"],
    ["blackSeconds", "is black"],
    ["silentSeconds", "has no sound"],
    ["lossySeconds", "loses packets"],
  ] as const;
  const switches = [
    [
      "partFiles",
      "A file for each part",
      "Otherwise parts are byte ranges of their segment: one cached object for all formats.",
    ],
    ["numbered", "Segment numbers in DASH", "The DASH manifest uses segment numbers instead of a timeline."],
    [
      "aligned",
      "Cut by the wall clock",
      "Two origins with the same source produce identical segments. From the next feed on.",
    ],
  ] as const;
</script>

{#snippet toggle(name: string, says: string, key: string, value: boolean, set: (on: boolean) => void)}
  <label class="flex items-start gap-3">
    <input
      type="checkbox"
      class="toggle toggle-sm mt-0.5"
      checked={value}
      onchange={(e) => set(e.currentTarget.checked)}
      data-switch={key}
    />
    <span><span class="text-sm">{name}</span><br /><span class="label-quiet">{says}</span></span>
  </label>
{/snippet}

<form class="grid gap-5 p-4" onsubmit={save} oninput={() => (touched = true)}>
  <div>
    <label class="label-quiet mb-1 block" for="t">Title</label>
    <input id="t" class="input input-sm w-full" bind:value={s.title} />
  </div>
  <fieldset class="grid gap-3">
    <legend class="mb-2 text-sm font-semibold">Packaging</legend>
    <div class="grid grid-cols-2 gap-3 sm:grid-cols-4">
      <div>
        <label class="label-quiet mb-1 block" for="s">Segment, ms</label>
        <input
          id="s"
          type="number"
          step="100"
          class="input input-sm w-full"
          bind:value={s.packaging.segmentMillis}
        />
      </div>
      <div>
        <label class="label-quiet mb-1 block" for="p">Part, ms</label>
        <input
          id="p"
          type="number"
          step="50"
          class="input input-sm w-full"
          bind:value={s.packaging.partMillis}
        />
      </div>
      <div>
        <label class="label-quiet mb-1 block" for="w">Segments shown</label>
        <input id="w" type="number" class="input input-sm w-full" bind:value={s.packaging.window} />
      </div>
      <div>
        <label class="label-quiet mb-1 block" for="o">Start offset, ms</label>
        <input
          id="o"
          type="number"
          step="500"
          class="input input-sm w-full"
          bind:value={s.packaging.startOffsetMillis}
          placeholder="player’s choice"
        />
      </div>
    </div>
    <ul class="rounded-box bg-base-200 grid gap-1 px-3 py-2 text-sm" data-consequences>
      {#each words as w (w)}<li>{w}</li>{/each}
    </ul>
    {#each switches as [key, name, says] (key)}
      {@render toggle(name, says, key, s.packaging[key] ?? false, (on) => (s.packaging[key] = on))}
    {/each}
    <div class="grid grid-cols-2 gap-3">
      <div>
        <label class="label-quiet mb-1 block" for="sn">Name of the sound</label>
        <input id="sn" class="input input-sm w-full" bind:value={s.packaging.soundName} />
      </div>
      <div>
        <label class="label-quiet mb-1 block" for="l">Language</label>
        <input id="l" class="input input-sm w-full" bind:value={s.packaging.language} placeholder="en" />
      </div>
    </div>
  </fieldset>
  <fieldset class="grid gap-3">
    <legend class="mb-2 text-sm font-semibold">When the input on air is faulty</legend>
    <div class="grid grid-cols-3 gap-3">
      {#each faults as [key, text] (key)}
        <div>
          <label class="label-quiet mb-1 block" for={key}>It {text} for, s</label>
          <input
            id={key}
            type="number"
            min="0"
            class="input input-sm w-full"
            bind:value={s.switching[key]}
            placeholder="never"
          />
        </div>
      {/each}
    </div>
    <p class="label-quiet">
      After this time another live input takes over. Needs an encoded rung. A problem is reported after 20 s
      in any case.
    </p>
  </fieldset>
  <fieldset class="grid gap-3">
    <legend class="mb-2 text-sm font-semibold">Outputs</legend>
    {@render toggle(
      "Receivers over SRT",
      "Receivers with a key pull the sender’s original transport stream over SRT.",
      "receivers",
      s.access.receivers ?? false,
      (on) => (s.access.receivers = on),
    )}
    {@render toggle(
      "In the public list",
      "Listed at /watch and /api/v1/public while it is on air.",
      "listed",
      s.access.listed ?? false,
      (on) => (s.access.listed = on),
    )}
    {@render toggle(
      "Relay only",
      "The feed is not packaged: no ladder, no formats, no CPU time.",
      "unpackaged",
      s.packaging.unpackaged ?? false,
      (on) => (s.packaging.unpackaged = on),
    )}
    {@render toggle(
      "Transport streams",
      "For legacy receivers: HLS with MPEG-TS, audio as packed AAC.",
      "ts",
      s.outputs.ts ?? false,
      (on) => (s.outputs.ts = on),
    )}
    <div>
      <label class="label-quiet mb-1 block" for="sel">Selections of rungs with addresses of their own</label>
      <input
        id="sel"
        class="input input-sm w-full font-mono"
        bind:value={selections}
        placeholder="phones=360p+240p, radio=sound"
      />
    </div>
  </fieldset>
  <Trouble {error} />
  <div class="flex flex-wrap items-center gap-3">
    <button class="btn btn-primary btn-sm">Save</button>
    <span class="label-quiet" role="status">{said}</span>
    <span class="flex-1"></span>
    <button type="button" class="btn btn-sm" onclick={close}
      >{s.access.closed ? "Open channel" : "Close channel"}</button
    >
    <button type="button" class="btn btn-error btn-outline btn-sm" onclick={remove}>Remove channel</button>
  </div>
</form>
