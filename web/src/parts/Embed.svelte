<script lang="ts">
  // The code that puts players into a page, and what comes of it.
  import "../player/index";
  import { live } from "../lib/live.svelte";
  import { ways } from "../lib/ways";
  import CopyField from "./CopyField.svelte";
  let { slug }: { slug: string } = $props();
  let way = $state("auto");
  let delay = $state("");
  let buffer = $state("");
  let rung = $state("");
  let captions = $state("");
  let sound = $state("");
  let poster = $state("");
  let muted = $state(true);
  let menu = $state(true);
  let seek = $state(true);
  let controls = $state(true);
  let others = $state<string[]>([]);
  const channels = $derived([slug, ...others]);
  const rungs = $derived((live.channel(slug)?.rungs ?? []).filter((r) => r.on).map((r) => r.name));

  const escape = (text: string) =>
    text.replaceAll("&", "&amp;").replaceAll('"', "&quot;").replaceAll("<", "&lt;");
  const attributes = $derived(
    [
      ["way", way === "auto" ? "" : way],
      ["delay", delay],
      ["buffer", buffer],
      ["rung", rung],
      ["sound", sound],
      ["captions", captions],
      ["poster", poster],
      ["muted", muted ? "" : "no"],
      ["menu", menu ? "" : "no"],
      ["seek", seek ? "" : "no"],
      ["controls", controls ? "" : "no"],
    ].filter(([, v]) => v),
  );
  const code = $derived(
    `<script type="module" src="${location.origin}/player.js"></` +
      `script>\n` +
      channels
        .map(
          (c) =>
            `<metaplasis-player server="${location.origin}" channel="${c}"${attributes.map(([n, v]) => ` ${n}="${escape(v)}"`).join("")}></metaplasis-player>`,
        )
        .join("\n"),
  );
  const lines = [
    ["delay", "Seconds behind live to aim at, from 0.2", () => delay, (v: string) => (delay = v)],
    ["buffer", "Seconds to hold at most", () => buffer, (v: string) => (buffer = v)],
    ["sound", "Language or name of the sound", () => sound, (v: string) => (sound = v)],
    ["captions", "Language or name of the captions", () => captions, (v: string) => (captions = v)],
    ["poster", "Address of a picture before it plays", () => poster, (v: string) => (poster = v)],
  ] as const;
  const switches = [
    ["Begin without sound, as browsers ask for it", () => muted, (v: boolean) => (muted = v)],
    ["Controls", () => controls, (v: boolean) => (controls = v)],
    ["Menu of qualities", () => menu, (v: boolean) => (menu = v)],
    ["Seek bar, where there is a past", () => seek, (v: boolean) => (seek = v)],
  ] as const;
</script>

<div class="grid gap-4 p-4" data-embed>
  <div class="grid gap-3 sm:grid-cols-2">
    <label class="grid gap-1"
      ><span class="label-quiet">Way</span>
      <select class="select select-sm w-full" bind:value={way}>
        <option value="auto">the player’s choice</option>
        {#each ways as w (w.way)}<option value={w.way}>{w.name}, {w.says.toLowerCase()}</option>{/each}
      </select></label
    >
    <label class="grid gap-1"
      ><span class="label-quiet">Rung to begin with</span>
      <select class="select select-sm w-full" bind:value={rung}>
        <option value="">the player’s choice</option>
        {#each rungs as r (r)}<option>{r}</option>{/each}
      </select></label
    >
    {#each lines as [name, text, get, set] (name)}
      <label class="grid gap-1"
        ><span class="label-quiet">{text}</span>
        <input
          class="input input-sm w-full"
          value={get()}
          onchange={(e) => set(e.currentTarget.value.trim())}
        /></label
      >
    {/each}
  </div>
  <div class="flex flex-wrap gap-x-5 gap-y-2">
    {#each switches as [text, get, set] (text)}
      <label class="flex items-center gap-2 text-sm">
        <input
          type="checkbox"
          class="checkbox checkbox-xs"
          checked={get()}
          onchange={(e) => set(e.currentTarget.checked)}
        />
        {text}
      </label>
    {/each}
  </div>
  {#if live.channels.length > 1}
    <fieldset class="flex flex-wrap gap-x-5 gap-y-2">
      <legend class="label-quiet mb-1">Further players on the same page</legend>
      {#each live.channels.filter((c) => c.slug !== slug) as c (c.slug)}
        <label class="flex items-center gap-2 text-sm">
          <input type="checkbox" class="checkbox checkbox-xs" bind:group={others} value={c.slug} />{c.title}
        </label>
      {/each}
    </fieldset>
  {/if}
  <CopyField label="Code for the page" value={code} lines />
  <div>
    <p class="label-quiet mb-1">What comes of it</p>
    {#key `${way} ${delay} ${buffer} ${rung} ${sound} ${captions} ${poster} ${muted}`}
      <div class={["grid gap-3", channels.length > 1 && "sm:grid-cols-2"]}>
        {#each channels as c (c)}
          <metaplasis-player
            channel={c}
            {way}
            delay={delay || undefined}
            buffer={buffer || undefined}
            {rung}
            {sound}
            {captions}
            {poster}
            muted={muted ? "yes" : "no"}
            menu={menu ? "yes" : "no"}
            seek={seek ? "yes" : "no"}
            controls={controls ? "yes" : "no"}
          ></metaplasis-player>
        {/each}
      </div>
    {/key}
  </div>
</div>
