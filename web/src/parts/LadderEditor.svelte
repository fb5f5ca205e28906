<script lang="ts">
  import { call } from "../lib/api";
  import { nextRung } from "../lib/ladder";
  import { soundOnly } from "../lib/rung";
  import type {
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
  import LadderSettings from "./LadderSettings.svelte";
  import LadderTable from "./LadderTable.svelte";
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
  /** remove takes a rung out; one of the plan in use is turned off instead. */
  function remove(i: number) {
    const plan = plans.find((p) => p.name === using?.name);
    if (plan?.rungs.some((r) => r.name === rungs[i].name)) rungs[i].on = false;
    else rungs.splice(i, 1);
    touch();
  }
  const encoded = $derived(rungs.filter((r) => r.on && !r.source && !soundOnly(r)).length);
</script>

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
    <LadderTable bind:rungs {status} {images} {touch} {remove} {addImage} />
  {/if}
  <div class="mt-2 grid gap-2">
    <LadderSettings
      bind:governor
      bind:priority
      bind:interlaced
      {busy}
      changed={() => dirty || void apply(planned ? { planned, rungs: [] } : asked())}
    />
    {#if status.governor?.steps.length}
      <ul class="rounded-box bg-base-200 px-3 py-2 text-sm" data-governor>
        {#each status.governor.steps as s (s.rung + s.kind)}
          <li>
            {s.kind === "effort"
              ? `${s.rung} is encoded with effort ${s.to} instead of ${s.from}.`
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
