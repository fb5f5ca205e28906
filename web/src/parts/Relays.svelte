<script lang="ts">
  // Relays carry the channel onward: what each does, in words and as a curve, and a form for another one.
  import { call } from "../lib/api";
  import { ago, bitrate, megabytes } from "../lib/format";
  import { Followed, live } from "../lib/live.svelte";
  import { schemeOf } from "../lib/scheme";
  import { relaySchemes } from "../lib/schemes";
  import type { ChannelRelay, RelayTest, Status } from "../lib/types";
  import Chart from "./Chart.svelte";
  import SchemeHelp from "./SchemeHelp.svelte";
  import Trouble from "./Trouble.svelte";

  let { slug, status }: { slug: string; status: Status } = $props();
  const followed = new Followed<ChannelRelay[]>(() => `/channels/${slug}/relays`);
  const relays = $derived(followed.value);
  let failed = $state<unknown>(); // of what was done here
  const error = $derived(failed ?? followed.error);
  let opened = $state("");
  let testing = $state("");
  let tests = $state<Record<string, RelayTest>>({});
  let adding = $state(false);
  let name = $state("");
  let address = $state("");
  let secret = $state("");
  let rung = $state("");
  let whole = $state(false);
  let from = $state("");
  let until = $state("");
  const rungs = $derived(status.rungs.filter((r) => r.on).map((r) => r.name));
  const carries = $derived(schemeOf(relaySchemes, address)?.programmes ?? false);

  async function act(what: () => Promise<unknown>) {
    failed = undefined;
    try {
      await what();
    } catch (e) {
      failed = e;
    }
    testing = "";
    await followed.refresh();
  }
  const path = (r: string) => `/channels/${slug}/relays/${encodeURIComponent(r)}`;
  function add(e: SubmitEvent) {
    e.preventDefault();
    void act(async () => {
      await call<ChannelRelay[]>("PUT", path(name.trim()), {
        name: name.trim(),
        address: address.trim(),
        ...(secret ? { secret } : {}),
        ...(whole && carries ? { whole } : rung ? { rung } : {}),
        ...(from ? { from: new Date(from).toISOString() } : {}),
        ...(until ? { until: new Date(until).toISOString() } : {}),
      });
      opened = name.trim();
      name = address = secret = rung = from = until = "";
      whole = adding = false;
    });
  }
  function remove(r: ChannelRelay) {
    if (!confirm(`Remove the relay ${r.name}?`)) return;
    void act(() => call("DELETE", path(r.name)));
  }
  function test(r: ChannelRelay) {
    testing = r.name;
    void act(async () => (tests[r.name] = await call<RelayTest>("POST", `${path(r.name)}/test`)));
  }
  const stateOf = (r: ChannelRelay) => r.progress?.state ?? "off";
  const dot: Record<string, string> = {
    sending: "bg-success",
    connecting: "bg-warning",
    waiting: "bg-base-300",
    retrying: "bg-error",
    off: "bg-base-300",
  };
</script>

<div class="grid gap-3 p-4" data-relays>
  {#if error}<Trouble {error} />{/if}
  {#if !relays}
    <div class="skeleton h-24" aria-busy="true"></div>
  {:else if relays.length === 0 && !adding}
    <p class="label-quiet">
      Nothing is carried onward yet. A relay sends this channel to a platform, another server, a decoder or a
      multicast group, and comes back by itself when the far end does.
    </p>
  {/if}
  {#each relays ?? [] as r (r.name)}
    <article class="border-base-300 rounded-box border" data-relay={r.name} data-relay-state={stateOf(r)}>
      <div class="flex flex-wrap items-center gap-x-3 gap-y-1 px-3 py-2">
        <span class={["size-2.5 shrink-0 rounded-full", dot[stateOf(r)]]} aria-hidden="true"></span>
        <button
          class="min-w-0 flex-1 text-left"
          aria-expanded={opened === r.name}
          onclick={() => (opened = opened === r.name ? "" : r.name)}
        >
          <span class="font-medium">{r.name}</span>
          <span class="label-quiet">{r.whole ? "the whole stream" : r.rung || "the source"}</span>
          <span class="label-quiet block truncate font-mono" title={r.address}>{r.address}</span>
        </button>
        {#if r.progress}
          <span class="text-right text-sm tabular-nums">
            {bitrate(r.progress.bitrate)}
            <span class="label-quiet block"
              >{r.progress.lost ? `${r.progress.lost} left out` : stateOf(r)}</span
            >
          </span>
        {:else}<span class="label-quiet">off</span>{/if}
        <div class="join">
          <button
            class="btn btn-xs join-item"
            onclick={() => act(() => call("POST", `${path(r.name)}/${r.progress ? "stop" : "start"}`))}
            >{r.progress ? "Stop" : "Start"}</button
          >
          <button class="btn btn-xs join-item" disabled={testing === r.name} onclick={() => test(r)}
            >{testing === r.name ? "Trying …" : "Test"}</button
          >
          <button class="btn btn-xs join-item" aria-label="Remove {r.name}" onclick={() => remove(r)}
            >Remove</button
          >
        </div>
      </div>
      {#if stateOf(r) === "retrying"}
        <p class="border-error bg-error/10 border-t px-3 py-1.5 text-sm" role="alert">{r.words}</p>
      {/if}
      {#if tests[r.name]}
        <p
          class={["border-base-300 border-t px-3 py-1.5 text-sm", !tests[r.name].takes && "text-error"]}
          role="status"
        >
          {tests[r.name].text}
        </p>
      {/if}
      {#if opened === r.name}
        <div class="border-base-300 grid gap-2 border-t px-3 py-2">
          <p class="text-sm">{r.words}</p>
          {#if r.progress}
            {#if r.progress.curve?.length}
              <Chart
                label="Sent"
                values={r.progress.curve}
                every={1000}
                until={live.now}
                span={300}
                least={1_000_000}
                height={90}
                format={(v) => bitrate(v)}
              />
            {/if}
            <dl class="grid grid-cols-2 gap-2 text-sm sm:grid-cols-4">
              <div>
                <dt class="label-quiet">Sent</dt>
                <dd>{megabytes(r.progress.bytes)}</dd>
              </div>
              <div>
                <dt class="label-quiet">In this state</dt>
                <dd>{ago(r.progress.since, live.now)}</dd>
              </div>
              <div>
                <dt class="label-quiet">Attempts</dt>
                <dd>{r.progress.attempts}</dd>
              </div>
              <div>
                <dt class="label-quiet">Left out</dt>
                <dd>{r.progress.lost}</dd>
              </div>
            </dl>
            {#if r.progress.error}
              <p class="label-quiet">The newest failure: {r.progress.error}</p>
            {/if}
          {/if}
        </div>
      {/if}
    </article>
  {/each}
  {#if adding}
    <form class="border-base-300 rounded-box grid gap-3 border p-3" onsubmit={add} data-new-relay>
      <div class="grid gap-3 sm:grid-cols-[1fr_2fr]">
        <label class="grid gap-1"
          ><span class="label-quiet">Name</span>
          <input class="input input-sm w-full" bind:value={name} placeholder="platform" required /></label
        >
        <label class="grid gap-1"
          ><span class="label-quiet">Address of the far end</span>
          <input
            class="input input-sm w-full font-mono"
            bind:value={address}
            placeholder="rtmp://192.0.2.7/live/KEY"
            required
          /></label
        >
      </div>
      <SchemeHelp schemes={relaySchemes} {address} />
      <div class="grid gap-3 sm:grid-cols-2">
        <label class="grid gap-1"
          ><span class="label-quiet">Send</span>
          <select class="select select-sm w-full" bind:value={rung} disabled={whole && carries}>
            <option value="">the source as it came</option>
            {#each rungs as r (r)}<option value={r}>{r}</option>{/each}
          </select></label
        >
        <label class="grid gap-1"
          ><span class="label-quiet">Secret, if it does not stand in the address</span>
          <input
            class="input input-sm w-full"
            type="password"
            autocomplete="off"
            bind:value={secret}
          /></label
        >
        <label class="grid gap-1"
          ><span class="label-quiet">From</span>
          <input class="input input-sm w-full" type="datetime-local" bind:value={from} /></label
        >
        <label class="grid gap-1"
          ><span class="label-quiet">Until</span>
          <input class="input input-sm w-full" type="datetime-local" bind:value={until} /></label
        >
      </div>
      {#if carries}
        <label class="flex items-center gap-2 text-sm">
          <input type="checkbox" class="checkbox checkbox-xs" bind:checked={whole} />
          The sender’s whole transport stream, untouched
        </label>
      {/if}
      <div class="flex gap-2">
        <button class="btn btn-primary btn-sm">Add it</button>
        <button type="button" class="btn btn-ghost btn-sm" onclick={() => (adding = false)}>Cancel</button>
      </div>
    </form>
  {:else}
    <div><button class="btn btn-sm" onclick={() => (adding = true)}>Add a relay</button></div>
  {/if}
</div>
