<script lang="ts">
  // Programs that are told what happens, and what they were told.
  import { call } from "../lib/api";
  import { ago } from "../lib/format";
  import { Followed, live } from "../lib/live.svelte";
  import type { Deliveries, Delivery, Hook } from "../lib/types";
  import CopyField from "./CopyField.svelte";
  import Trouble from "./Trouble.svelte";

  const kinds = [
    ["feed-begun", "a feed arrives"],
    ["feed-refused", "a feed is refused"],
    ["feed-ended", "a feed leaves"],
    ["channel-on-air", "a channel goes on air"],
    ["channel-off-air", "a channel goes off air"],
    ["problem-begun", "a problem begins"],
    ["problem-ended", "a problem ends"],
    ["admission", "a sender asks to be let in"],
  ] as const;

  const followed = new Followed<Hook[]>(() => "/hooks");
  const deliveries = new Followed<Deliveries>(() => "/hooks/deliveries");
  const hooks = $derived(followed.value);
  const told = $derived(deliveries.value);
  let failed = $state<unknown>(); // of what was done here
  const error = $derived(failed ?? followed.error ?? deliveries.error);
  let made = $state<Hook | undefined>();
  let where = $state("");
  let channel = $state("");
  let events = $state<string[]>([]);
  let strict = $state(false);
  let trying = $state(0);
  let outcome = $state<Delivery | undefined>();

  async function act(what: () => Promise<unknown>) {
    failed = undefined;
    try {
      await what();
    } catch (e) {
      failed = e;
    }
    trying = 0;
    await Promise.all([followed.refresh(), deliveries.refresh()]);
  }
  function add(e: SubmitEvent) {
    e.preventDefault();
    const at = where.trim();
    void act(async () => {
      made = await call<Hook>("POST", "/hooks", {
        ...(at.includes("://") ? { url: at } : { command: at }),
        channel,
        events,
        strict,
      });
      where = "";
      events = [];
    });
  }
  function remove(h: Hook) {
    if (!confirm(`Tell ${h.url || h.command} nothing more?`)) return;
    void act(() => call("DELETE", `/hooks/${h.id}`));
  }
  function attempt(h: Hook) {
    trying = h.id ?? 0;
    void act(async () => (outcome = await call<Delivery>("POST", `/hooks/${h.id}/test`)));
  }
  const name = (id: number) => {
    const h = hooks?.find((h) => h.id === id);
    return h ? h.url || h.command : `hook ${id}, removed`;
  };
  const words = (list?: string[]) =>
    list?.length
      ? list.map((e) => kinds.find((k) => k[0] === e)?.[1] ?? e).join(", ")
      : "everything but admissions";
</script>

<div class="grid items-start gap-4 lg:grid-cols-[2fr_3fr]">
  <form class="panel grid gap-3 p-4" onsubmit={add} data-new-hook>
    <h2 class="font-semibold">Add a webhook</h2>
    <label class="grid gap-1"
      ><span class="label-quiet">Address, or the name of a program in the folder of hooks</span>
      <input
        class="input input-sm w-full font-mono"
        bind:value={where}
        placeholder="https://desk.example/regatta"
        required
      /></label
    >
    <label class="grid gap-1"
      ><span class="label-quiet">Of</span>
      <select class="select select-sm w-full" bind:value={channel} aria-label="Channel">
        <option value="">all channels</option>
        {#each live.channels as c (c.slug)}<option>{c.slug}</option>{/each}
      </select></label
    >
    <fieldset class="grid gap-1.5 sm:grid-cols-2 lg:grid-cols-1 xl:grid-cols-2">
      <legend class="label-quiet mb-1.5">When; with nothing chosen, all but the last</legend>
      {#each kinds as [key, text] (key)}
        <label class="flex items-center gap-2 text-sm">
          <input type="checkbox" class="checkbox checkbox-xs" bind:group={events} value={key} />{text}
        </label>
      {/each}
    </fieldset>
    {#if events.includes("admission")}
      <label class="flex items-center gap-2 text-sm">
        <input type="checkbox" class="checkbox checkbox-xs" bind:checked={strict} />
        Without an answer, nobody is let in
      </label>
    {/if}
    <Trouble {error} />
    <div><button class="btn btn-primary btn-sm">Tell it</button></div>
    {#if made?.secret}
      <div class="rounded-box bg-base-200 grid gap-2 p-3" data-secret>
        <p class="text-sm">Its calls are signed by this secret, which is shown once.</p>
        <CopyField label="Secret" value={made.secret} />
      </div>
    {/if}
  </form>
  <div class="grid gap-4">
    <section class="panel" data-hooks>
      <h2 class="px-4 pt-3 font-semibold">Webhooks</h2>
      {#if !hooks}
        {#if !error}<div class="skeleton m-4 h-16"></div>{/if}
      {:else if !hooks.length}
        <p class="label-quiet px-4 py-6 text-center">Nobody yet.</p>
      {:else}
        <ul class="divide-base-200 divide-y px-4 py-1">
          {#each hooks as h (h.id)}
            <li class="flex items-center gap-3 py-2">
              <div class="min-w-0 flex-1">
                <p class="truncate font-mono text-sm">{h.url || h.command}</p>
                <p class="label-quiet">{h.channel || "all channels"}: {words(h.events)}</p>
              </div>
              <button class="btn btn-xs" onclick={() => attempt(h)} disabled={trying === h.id}>Test</button>
              <button class="btn btn-ghost btn-xs" onclick={() => remove(h)}>Remove</button>
            </li>
          {/each}
        </ul>
        {#if outcome}
          <p class={["px-4 pb-3 text-sm", outcome.done ? "text-success" : "text-error"]} role="status">
            {outcome.done ? "It took the test" : "It did not take the test"} in {outcome.millis} ms: {outcome.status}
          </p>
        {/if}
      {/if}
    </section>
    <section class="panel overflow-x-auto" data-deliveries>
      <h2 class="px-4 pt-3 font-semibold">Deliveries</h2>
      {#if told?.lost}
        <p class="text-warning px-4 pt-1 text-sm">{told.lost} could not be told: a thousand were waiting.</p>
      {/if}
      {#if !told?.list.length}
        <p class="label-quiet px-4 py-6 text-center">Nothing yet.</p>
      {:else}
        <table class="table-sm table">
          <thead
            ><tr><th>Event</th><th>Channel</th><th>To</th><th>Answer</th><th>Tries</th><th>When</th></tr
            ></thead
          >
          <tbody>
            {#each told.list as d, i (i)}
              <tr>
                <td class="whitespace-nowrap">{d.event}</td>
                <td>{d.channel ?? ""}</td>
                <td class="max-w-48 truncate font-mono text-xs">{name(d.hook)}</td>
                <td class={d.done ? "" : d.givenUp ? "text-error" : "text-warning"}
                  >{d.status}{d.done ? "" : d.givenUp ? "; given up" : "; tried again"}</td
                >
                <td>{d.tries}</td>
                <td class="whitespace-nowrap">{ago(d.at, live.now)} ago</td>
              </tr>
            {/each}
          </tbody>
        </table>
      {/if}
    </section>
  </div>
</div>
