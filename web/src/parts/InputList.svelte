<script lang="ts">
  import { call } from "../lib/api";
  import { bare, inputName, inputState, move, same } from "../lib/input";
  import { inputSchemes } from "../lib/schemes";
  import type { Channel, Input, InputStatus, Status } from "../lib/types";
  import Programmes from "./Programmes.svelte";
  import SchemeHelp from "./SchemeHelp.svelte";
  import Trouble from "./Trouble.svelte";
  let { channel, status, changed }: { channel: Channel; status: Status; changed: () => void } = $props();
  const slug = $derived(channel.settings.slug);
  const list = $derived(status.inputs);
  const chosen = $derived(list.find((i) => i.chosen));
  let error = $state<unknown>();
  let busy = $state(false);
  let kind = $state<"address" | "sender" | "studio" | "programme" | "channel" | "file" | "items" | "slate">(
    "address",
  );
  let text = $state("");
  let secret = $state("");
  let programme = $state("");
  let onDemand = $state(false);
  const kinds = [
    ["address", "Source at an address"],
    ["sender", "Further senders"],
    ["studio", "Source on the network"],
    ["programme", "Programme of another channel"],
    ["channel", "Another channel, or a rung of it"],
    ["file", "Recording"],
    ["items", "Items of the library"],
    ["slate", "Slate"],
  ] as const;
  const asks = {
    address: ["Address", inputSchemes.find((s) => s.name === "rtsp")!.example],
    sender: ["Name", "backup"],
    studio: ["Name, or ID", "Deck camera"],
    programme: ["Channel", "truck"],
    channel: ["Channel", "start-line"],
    file: ["File in the service’s folder of files", "standby.flv, standby.mp4 or standby.ts"],
    items: ["Items, with + between", "race-1+race-2"],
    slate: ["Image, none for the title", "regatta-card"],
  } as const;

  async function work(task: () => Promise<unknown>) {
    busy = true;
    error = undefined;
    try {
      await task();
      changed();
    } catch (e) {
      error = e;
    }
    busy = false;
  }
  /** kept is an input as the settings have it, with what stands for its secret. */
  const kept = (i: InputStatus): Input => (channel.settings.inputs ?? []).find((s) => same(s, i)) ?? bare(i);
  const set = (inputs: Input[]) => work(() => call("PATCH", `/channels/${slug}`, { inputs }));
  const choose = (i: InputStatus | undefined) =>
    work(() => call("PUT", `/channels/${slug}/input`, i ? bare(i) : { kind: "" }));
  function add(e: SubmitEvent) {
    e.preventDefault();
    const next: Input = { kind };
    if (kind === "address")
      Object.assign(next, { address: text.trim(), secret: secret || undefined, onDemand });
    if (kind === "sender" || kind === "studio") next.name = text.trim();
    if (kind === "programme" || kind === "channel") next.channel = text.trim();
    if (kind === "file" || kind === "items" || kind === "slate") next.file = text.trim() || undefined;
    if ((kind === "address" || kind === "programme" || kind === "channel") && programme)
      next.programme = programme;
    void set([...list.map(kept), next]).then(() => {
      if (!error) text = secret = programme = "";
    });
  }
  const tone = (i: InputStatus) =>
    i.onAir ? "bg-success" : i.standby ? "bg-info" : i.problem ? "bg-error" : "bg-base-300";
</script>

<div class="grid gap-4 p-4" data-inputs>
  <p class="label-quiet">
    The first that has something is on air; one that is preferred takes over again once it is steady.
  </p>
  <ol class="grid gap-2" aria-label="Inputs, the preferred one first">
    {#each list as i, n (inputName(i) + n)}
      <li class="rounded-box border-base-300 border px-3 py-2" data-input={inputName(i)}>
        <div class="flex flex-wrap items-center gap-x-3 gap-y-1">
          <span class={["size-2.5 shrink-0 rounded-full", tone(i)]} aria-hidden="true"></span>
          <span class="min-w-0 flex-1 truncate font-mono text-sm" title={inputName(i)}>{inputName(i)}</span>
          <span class={["text-sm", i.onAir ? "text-success font-medium" : "label-quiet"]}
            >{i.onAir ? "on air" : i.standby ? "stands by" : i.problem ? "fails" : inputState(i)}{i.chosen
              ? ", by hand"
              : ""}</span
          >
          <span class="join">
            <button
              class="btn btn-xs join-item"
              disabled={busy || n === 0}
              aria-label="Prefer {inputName(i)}"
              onclick={() => set(move(list.map(kept), n, n - 1))}>↑</button
            >
            <button
              class="btn btn-xs join-item"
              disabled={busy || i.chosen}
              title="Put on air by hand"
              onclick={() => choose(i)}>Take</button
            >
            <button
              class="btn btn-xs join-item"
              disabled={busy || list.length === 1}
              aria-label="Remove {inputName(i)}"
              onclick={() => set(list.filter((o) => o !== i).map(kept))}>✕</button
            >
          </span>
        </div>
        {#if i.protocol}
          <p class="label-quiet mt-1">{i.protocol} from {i.remote}{i.onDemand ? ", on demand" : ""}</p>
        {/if}
        {#if i.problem && !i.onAir}
          <p class="text-error mt-1 text-sm" role="status">{i.problem}.</p>
        {/if}
        {#if i.line?.programmes && i.line.programmes.length > 0}
          <Programmes
            {slug}
            list={i.line.programmes}
            here={i.line.programme ?? 0}
            pick={(number) =>
              set(list.map((o) => (o === i ? { ...kept(o), programme: String(number) } : kept(o))))}
          />
        {/if}
      </li>
    {/each}
  </ol>
  {#if chosen}
    <p class="text-sm">
      {inputName(chosen)} was chosen by hand.
      <button class="btn btn-xs ml-2" disabled={busy} onclick={() => choose(undefined)}>By order again</button
      >
    </p>
  {/if}
  <form class="rounded-box bg-base-200 grid gap-3 p-3" onsubmit={add}>
    <div class="flex flex-wrap items-end gap-2">
      <label class="grid gap-1"
        ><span class="label-quiet">Add an input</span>
        <select class="select select-sm" bind:value={kind} aria-label="Kind of input">
          {#each kinds as [key, name] (key)}<option value={key}>{name}</option>{/each}
        </select></label
      >
      <label class="grid min-w-48 flex-1 gap-1"
        ><span class="label-quiet">{asks[kind][0]}</span>
        <input
          class="input input-sm w-full font-mono"
          bind:value={text}
          placeholder={asks[kind][1]}
          aria-label={asks[kind][0]}
          required={kind !== "slate"}
        /></label
      >
      {#if kind === "address" || kind === "programme" || kind === "channel"}
        <label class="grid w-28 gap-1"
          ><span class="label-quiet">{kind === "channel" ? "Rung" : "Programme"}</span>
          <input
            class="input input-sm"
            bind:value={programme}
            placeholder={kind === "channel" ? "source" : "first"}
            aria-label={kind === "channel" ? "Rung" : "Programme"}
          /></label
        >
      {/if}
      <button class="btn btn-primary btn-sm" disabled={busy}>Add</button>
    </div>
    {#if kind === "studio"}
      <p class="label-quiet">
        <a class="link" href="#/channels/{slug}/inputs/network">See what is on the network</a>, with pictures,
        and pick one there.
      </p>
    {/if}
    {#if kind === "address"}
      <SchemeHelp schemes={inputSchemes} address={text} />
      <div class="flex flex-wrap items-end gap-x-4 gap-y-2">
        <label class="grid gap-1"
          ><span class="label-quiet">Password or passphrase</span>
          <input class="input input-sm" type="password" autocomplete="off" bind:value={secret} /></label
        >
        <label class="flex items-center gap-2 text-sm"
          ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={onDemand} /> Fetch it only while somebody
          watches</label
        >
      </div>
    {/if}
  </form>
  <Trouble {error} />
</div>
