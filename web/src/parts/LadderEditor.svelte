<script lang="ts">
  import { call } from "../lib/api";
  import { nextRung } from "../lib/ladder";
  import { codecs, others, soundOnly } from "../lib/rung";
  import type {
    Codec,
    Governor,
    Image,
    Interlaced,
    NewLadder,
    Outlook,
    PlanInUse,
    Rung,
    Status,
    Use,
  } from "../lib/types";
  import RungForm from "./RungForm.svelte";
  import Trouble from "./Trouble.svelte";
  let { slug, status, changed }: { slug: string; status: Status; changed: () => void } = $props();
  let revision = $state(0); // of the settings that this ladder is from

  let planned = $state(true);
  let governor = $state<Governor>("");
  let interlaced = $state<Interlaced>("");
  let priority = $state(0);
  let using = $state<Use | undefined>(); // plan
  let rungs = $state<Rung[]>([]);
  let known = $state(false);
  let dirty = $state(false);
  let busy = $state(false);
  let open = $state(-1); // the rung whose settings are all shown
  let said = $state("");
  let error = $state<unknown>();
  let plans = $state<PlanInUse[]>([]);
  let images = $state<Image[]>([]);
  let outlook = $state<Outlook | undefined>();
  let naming = $state<string | undefined>(); // a plan that is to be stored

  function take(l: NewLadder) {
    planned = l.planned;
    governor = l.governor ?? "";
    interlaced = l.interlaced ?? "";
    priority = l.priority ?? 0;
    using = l.plan;
    revision = l.revision ?? 0;
    rungs = (l.rungs ?? []).map((r) => structuredClone(r));
    known = true;
    dirty = false;
    outlook = undefined;
  }
  $effect(() => {
    // A planned ladder changes with the source; one that is being edited must not.
    void status.rungs.length;
    if (dirty) return;
    const fresh = call<NewLadder>("GET", `/channels/${slug}/ladder`);
    void fresh.then(
      (l) => dirty || take(l), // what was typed meanwhile stays
      (e) => (error = e),
    );
  });
  const loadPlans = () =>
    call<PlanInUse[]>("GET", "/plans").then(
      (l) => (plans = l),
      (e) => (error = e),
    );
  $effect(() => {
    void loadPlans();
    void loadImages();
  });
  const loadImages = () =>
    call<Image[]>("GET", "/images").then(
      (l) => (images = l),
      (e) => (error = e),
    );
  /** addImage stores a file under its own name, and returns that. */
  async function addImage(file: File): Promise<string | undefined> {
    const name = file.name
      .replace(/\.png$/i, "")
      .toLowerCase()
      .replace(/[^a-z0-9]+/g, "-")
      .replace(/^-+|-+$/g, "")
      .slice(0, 31);
    error = undefined;
    try {
      const bytes = new Uint8Array(await file.arrayBuffer());
      let text = "";
      for (const b of bytes) text += String.fromCharCode(b);
      await call<Image>("PUT", `/images/${encodeURIComponent(name)}`, { file: btoa(text) });
      await loadImages();
      return name;
    } catch (e) {
      error = e;
    }
  }

  const asked = (): NewLadder => ({
    planned: false,
    governor,
    interlaced,
    priority,
    plan: using && { name: using.name, version: using.version },
    rungs: $state.snapshot(rungs),
  });

  let forecasting: ReturnType<typeof setTimeout> | undefined;
  function touch() {
    dirty = true;
    planned = false;
    said = "";
    clearTimeout(forecasting);
    forecasting = setTimeout(() => {
      void call<Outlook>("POST", `/channels/${slug}/ladder/forecast`, asked()).then(
        (o) => (outlook = dirty ? o : undefined),
        () => (outlook = undefined), // what is wrong is said when it is applied
      );
    }, 400);
  }
  async function apply(l: NewLadder) {
    busy = true;
    error = undefined;
    try {
      take(
        await call<NewLadder>("PUT", `/channels/${slug}/ladder`, {
          governor,
          interlaced,
          priority,
          ...l,
          revision,
        }),
      );
      said = "Takes effect at the next segment.";
      changed();
    } catch (e) {
      error = e;
    }
    busy = false;
  }
  async function propose() {
    const l = await call<NewLadder>("GET", `/channels/${slug}/ladder/plan`);
    rungs = l.rungs ?? [];
    using = undefined;
    touch();
  }
  /** choose takes a plan, the planned ladder, or the rungs as they are. */
  function choose(name: string) {
    if (name === "planned") return apply({ planned: true, rungs: [] });
    if (name === "own") {
      using = undefined;
      return touch();
    }
    const own = using ? rungs.filter((r) => using?.own?.includes(r.name)) : [];
    const plan = plans.find((p) => p.name === name);
    return apply({
      planned: false,
      governor: plan?.governor || governor,
      plan: { name, version: 0 },
      rungs: $state.snapshot(own),
    });
  }
  async function store() {
    const name = naming?.trim() ?? "";
    error = undefined;
    try {
      const p = await call<PlanInUse>("PUT", `/plans/${encodeURIComponent(name)}`, {
        name,
        governor,
        interlaced,
        rungs: $state.snapshot(rungs),
      });
      naming = undefined;
      await loadPlans();
      said = `Stored as ${p.name}, version ${p.version}.`;
    } catch (e) {
      error = e;
    }
  }
  const newest = $derived(plans.find((p) => p.name === using?.name)?.version ?? 0);

  const source = $derived(status.feed?.tracks.find((t) => t.kind === 1));
  /** add offers the next useful size below what there is, never one above the source. */
  function add() {
    rungs.push(nextRung(rungs, source));
    touch();
  }
  function addSound() {
    let name = "sound";
    for (let i = 2; rungs.some((r) => r.name === name); i++) name = `sound-${i}`;
    rungs.push({ name, on: true, audioBitrate: 96_000 });
    touch();
  }
  /** madeAs says what a rung really is, where it asks for more than the source has. */
  function madeAs(r: Rung): string {
    const made = status.renditions.find((o) => o.name === r.name && !o.retired);
    if (r.source || !source || !made?.height || !made.width) return "";
    const larger = (r.height ?? 0) > made.height || (r.width ?? 0) > made.width;
    return larger ? `made as ${made.width}×${made.height}: the source has no more` : "";
  }
  /** readyMade says whether the sender makes a rung's pictures now. */
  function readyMade(r: Rung): boolean {
    return status.renditions.some((o) => o.name === r.name && o.ready);
  }
  /** remove takes a rung out; one of the plan in use is turned off instead. */
  function remove(i: number) {
    const plan = plans.find((p) => p.name === using?.name);
    if (plan?.rungs.some((r) => r.name === rungs[i].name)) rungs[i].on = false;
    else rungs.splice(i, 1);
    open = -1;
    touch();
  }
  const encoded = $derived(rungs.filter((r) => r.on && !r.source && !soundOnly(r)).length);
  const advice = (r: Rung) => {
    const to = status.advice?.[r.name];
    return to && to !== (r.effort || 2) ? to : undefined;
  };
</script>

{#snippet number(
  r: Rung,
  key: "width" | "height" | "bitrate" | "effort" | "audioBitrate",
  unit: number,
  empty: string,
)}
  <input
    type="number"
    class={["input input-xs", key === "audioBitrate" ? "w-20" : "w-16"]}
    value={r[key] ? Math.round(r[key] / unit) : ""}
    placeholder={empty}
    oninput={(e) => {
      r[key] = Number(e.currentTarget.value) * unit;
      if (key === "bitrate") r.peak = 0; // follows again
      touch();
    }}
    aria-label="{r.name} {key}"
  />
{/snippet}

<datalist id="rates"
  ><option value="half"></option><option value="25"></option><option value="30"></option></datalist
>

<div class="p-3">
  <div class="mb-2 flex flex-wrap items-center gap-2">
    <select
      class="select select-xs w-52"
      value={planned ? "planned" : (using?.name ?? "own")}
      disabled={busy || !known}
      onchange={(e) => choose(e.currentTarget.value)}
      aria-label="Plan"
    >
      <option value="planned">planned from the source</option>
      <option value="own">rungs of its own</option>
      <optgroup label="Plans">
        {#each plans as p (p.name)}<option value={p.name} title={p.title}>{p.name}</option>{/each}
      </optgroup>
    </select>
    {#if using}
      <span class="label-quiet"
        >version {using.version}{using.own?.length ? `; otherwise here: ${using.own.join(", ")}` : ""}</span
      >
      {#if newest > using.version}<button class="btn btn-xs" onclick={() => choose(using?.name ?? "")}
          >Take version {newest}</button
        >{/if}
    {/if}
    <p class="label-quiet mr-auto">
      {encoded} encoded{rungs.some((r) => r.on && r.source) ? "; the source leads" : ""}.
    </p>
    <button class="btn btn-xs" onclick={propose}>Propose</button>
    <button class="btn btn-xs" onclick={add}>Add rung</button>
    <button class="btn btn-xs" onclick={addSound}>Add sound</button>
    {#if naming === undefined}
      <button class="btn btn-xs" disabled={!rungs.length} onclick={() => (naming = using?.name ?? "")}
        >Store as plan …</button
      >
    {:else}
      <form
        class="join"
        onsubmit={(e) => {
          e.preventDefault();
          void store();
        }}
      >
        <input
          class="input input-xs join-item w-32"
          bind:value={naming}
          placeholder="regatta"
          aria-label="Name of the plan"
        />
        <button class="btn btn-xs btn-primary join-item">Store</button>
        <button type="button" class="btn btn-xs join-item" onclick={() => (naming = undefined)}>Cancel</button
        >
      </form>
    {/if}
  </div>
  {#if !known && !error}
    <div class="skeleton h-40"></div>
  {:else if rungs.length === 0}
    <p class="label-quiet rounded-box bg-base-200 px-4 py-6 text-center">
      The ladder will be planned from the first source that connects.
    </p>
  {:else}
    <div class="overflow-x-auto">
      <table class="table-xs table [&_td]:px-1 [&_th]:px-1">
        <thead>
          <tr>
            <th>On</th><th>Name</th><th>Codec</th><th>Size</th><th title="pictures a second">Frames</th>
            <th>kbit/s</th>
            <th title="1: least processor time, 9: best picture">Effort</th>
            <th>Sound kbit/s</th><th><span class="sr-only">More and remove</span></th>
          </tr>
        </thead>
        <tbody>
          {#each rungs as r, i (i)}
            <tr class={[!r.on && "opacity-60"]} data-rung={r.name}>
              <td
                ><input
                  type="checkbox"
                  class="toggle toggle-xs toggle-primary"
                  bind:checked={r.on}
                  onchange={touch}
                  aria-label="{r.name} on"
                /></td
              >
              <td
                ><input
                  class="input input-xs w-24"
                  bind:value={r.name}
                  oninput={touch}
                  aria-label="Name"
                /></td
              >
              {#if r.source}
                <td colspan="5" class="label-quiet">the source, untouched</td>
              {:else if soundOnly(r)}
                <td colspan="5" class="label-quiet">sound alone</td>
              {:else}
                <td
                  ><select
                    class="select select-xs w-20"
                    value={r.codec ?? ""}
                    onchange={(e) => {
                      r.codec = (e.currentTarget.value as Codec) || undefined;
                      touch();
                    }}
                    aria-label="{r.name} codec"
                  >
                    {#each codecs as [id, label] (id)}<option value={id}>{label}</option>{/each}
                  </select></td
                >
                <td class="whitespace-nowrap"
                  >{@render number(r, "width", 1, "auto")} × {@render number(r, "height", 1, "auto")}
                  {#if r.ready}<p class="label-quiet" data-ready={readyMade(r)}>
                      {readyMade(r) ? "ready-made by the sender" : "coded until the sender makes it"}
                    </p>{/if}
                  {#if madeAs(r)}<p class="label-quiet whitespace-normal">{madeAs(r)}</p>{/if}</td
                >
                <td
                  ><input
                    class="input input-xs w-18"
                    list="rates"
                    value={r.frameRate ?? ""}
                    placeholder="source"
                    oninput={(e) => {
                      r.frameRate = e.currentTarget.value.trim() || undefined;
                      touch();
                    }}
                    aria-label="{r.name} frame rate"
                  /></td
                >
                <td>{@render number(r, "bitrate", 1000, "")}</td>
                <td class="whitespace-nowrap"
                  >{@render number(r, "effort", 1, "2")}
                  {#if advice(r)}<button
                      class="btn btn-ghost btn-xs px-1"
                      title="There is room for effort {advice(r)} on this machine"
                      onclick={() => ((r.effort = advice(r)), touch())}>→ {advice(r)}</button
                    >{/if}</td
                >
              {/if}
              <td>{@render number(r, "audioBitrate", 1000, "source")}</td>
              <td class="whitespace-nowrap"
                ><button
                  class={["btn btn-ghost btn-xs px-1.5", open === i && "btn-active"]}
                  aria-expanded={open === i}
                  onclick={() => (open = open === i ? -1 : i)}
                  aria-label="All settings of {r.name}">{others(r) ? `More · ${others(r)}` : "More"}</button
                ><button
                  class="btn btn-ghost btn-xs px-1"
                  onclick={() => remove(i)}
                  aria-label="Remove {r.name}">✕</button
                ></td
              >
            </tr>
            {#if open === i}
              <tr><td colspan="9"><RungForm rung={r} {images} {touch} add={addImage} /></td></tr>
            {/if}
          {/each}
        </tbody>
      </table>
    </div>
  {/if}
  <div class="mt-2 grid gap-2">
    <div class="flex flex-wrap items-center gap-x-4 gap-y-2 text-sm">
      <label class="flex flex-wrap items-center gap-2">
        <span>When the machine is short</span>
        <select
          class="select select-xs w-64"
          bind:value={governor}
          disabled={busy}
          onchange={() => dirty || apply(planned ? { planned, rungs: [] } : asked())}
          aria-label="Governor"
        >
          <option value="">leave out pictures</option>
          <option value="lower">lower effort, then rate, then rungs</option>
          <option value="raise">the same, and raise effort when it is idle</option>
        </select>
      </label>
      <label class="flex items-center gap-2" title="Channels of a lower priority give way first">
        <span>Priority</span>
        <select
          class="select select-xs w-16"
          value={String(priority || 5)}
          disabled={busy}
          onchange={(e) => {
            priority = Number(e.currentTarget.value);
            if (!dirty) void apply(planned ? { planned, rungs: [] } : asked());
          }}
          aria-label="Priority"
        >
          {#each [9, 8, 7, 6, 5, 4, 3, 2, 1] as n (n)}<option value={String(n)}>{n}</option>{/each}
        </select>
      </label>
      <label class="flex items-center gap-2">
        <span>Interlaced pictures</span>
        <select
          class="select select-xs w-48"
          bind:value={interlaced}
          disabled={busy}
          onchange={() => dirty || apply(planned ? { planned, rungs: [] } : asked())}
          aria-label="Interlaced"
        >
          <option value="">a picture of each field</option>
          <option value="frames">a picture of two fields</option>
          <option value="bob">each field, interpolated</option>
          <option value="weave">as they are</option>
        </select>
      </label>
    </div>
    {#if status.governor?.steps.length}
      <ul class="rounded-box bg-base-200 px-3 py-2 text-sm" data-governor>
        {#each status.governor.steps as s (s.rung + s.kind)}
          <li>
            {s.kind === "effort"
              ? `${s.rung} is coded with effort ${s.to} instead of ${s.from}.`
              : s.kind === "half-rate"
                ? `${s.rung} has every second picture.`
                : `${s.rung} is off.`}
          </li>
        {/each}
      </ul>
    {/if}
    {#if dirty && outlook}
      <p
        class={[
          "rounded-field border-l-3 px-3 py-1.5 text-sm",
          outlook.keepsUp ? "border-success bg-success/10" : "border-warning bg-warning/15",
        ]}
        role="status"
        data-outlook={outlook.keepsUp}
      >
        {outlook.text}
      </p>
    {/if}
    <Trouble {error} />
    <div class="flex flex-wrap items-center gap-2">
      <button class="btn btn-primary btn-sm" disabled={!dirty || busy} onclick={() => apply(asked())}
        >Apply at the next segment</button
      >
      {#if dirty}<button
          class="btn btn-ghost btn-sm"
          onclick={() => ((dirty = false), (outlook = undefined), (error = undefined))}>Discard</button
        >{/if}
      {#if !planned}<button
          class="btn btn-ghost btn-sm"
          disabled={busy}
          onclick={() => apply({ planned: true, rungs: [] })}>Back to the planned ladder</button
        >{/if}
      <span class="label-quiet" role="status">{said}</span>
    </div>
  </div>
</div>
