<script lang="ts">
  import { call } from "../lib/api";
  import { consequences } from "../lib/packaging";
  import type { Channel } from "../lib/types";
  import Sources from "../parts/Sources.svelte";
  import Trouble from "../parts/Trouble.svelte";
  let title = $state("");
  let slug = $state("");
  let touched = $state(false);
  let segment = $state(2000);
  let part = $state(200);
  let window_ = $state(6);
  let busy = $state(false);
  let error = $state<unknown>();
  let source = $state("");

  const suggested = $derived(
    title
      .toLowerCase()
      .normalize("NFD")
      .replace(/[^a-z0-9]+/g, "-")
      .replace(/^-+|-+$/g, "")
      .slice(0, 63),
  );
  const name = $derived(touched ? slug : suggested);

  async function submit(e: SubmitEvent) {
    e.preventDefault();
    busy = true;
    error = undefined;
    try {
      const c = await call<Channel>("POST", "/channels", {
        slug: name,
        title,
        inputs: source ? [{ kind: "studio", name: source }, { kind: "sender" }] : undefined,
        packaging: { segmentMillis: segment, partMillis: part, window: window_ },
        ladder: { planned: true, rungs: null },
      });
      location.hash = `/channels/${c.settings.slug}/inputs${source ? "" : "/senders"}`;
    } catch (e) {
      error = e;
    }
    busy = false;
  }
</script>

<form class="panel mx-auto max-w-xl p-5" onsubmit={submit}>
  <h1 class="mb-4 text-lg font-semibold">New channel</h1>
  <label class="label-quiet mb-1 block" for="title">Title</label>
  <!-- The page was opened to type this, and has nothing before it to read. -->
  <!-- svelte-ignore a11y_autofocus -->
  <input
    id="title"
    class="input mb-3 w-full"
    bind:value={title}
    placeholder="Start line"
    required
    autofocus
  />
  <label class="label-quiet mb-1 block" for="slug">Name in addresses</label>
  <input
    id="slug"
    class="input mb-1 w-full font-mono"
    value={name}
    oninput={(e) => ((touched = true), (slug = e.currentTarget.value))}
    required
    placeholder="start-line"
  />
  <p class="label-quiet mb-3">It stays for good: senders and viewers use it.</p>
  <div class="mb-2 grid grid-cols-3 gap-3">
    <div>
      <label class="label-quiet mb-1 block" for="segment">Segment, ms</label>
      <input
        id="segment"
        type="number"
        min="500"
        max="10000"
        step="100"
        class="input w-full"
        bind:value={segment}
      />
    </div>
    <div>
      <label class="label-quiet mb-1 block" for="part">Part, ms</label>
      <input id="part" type="number" min="100" max="1000" step="50" class="input w-full" bind:value={part} />
    </div>
    <div>
      <label class="label-quiet mb-1 block" for="window">Segments shown</label>
      <input id="window" type="number" min="3" max="60" class="input w-full" bind:value={window_} />
    </div>
  </div>
  <p class="label-quiet mb-2">
    {consequences({ segmentMillis: segment, partMillis: part, window: window_ })[0]}
  </p>
  <p class="label-quiet mb-4">
    The ladder is planned from the first source that connects; you can edit it at any time, also on air.
  </p>
  <details class="mb-4">
    <summary class="cursor-pointer text-sm">
      {source ? `It is fed by ${source}, and by senders` : "Take a source on the studio’s network"}
    </summary>
    <div class="mt-2">
      <Sources
        taken={source ? [source] : []}
        verb="Take"
        pick={(s) => {
          source = s.name;
          title ||= s.name;
        }}
      />
    </div>
  </details>
  <Trouble {error} />
  <div class="mt-2 flex gap-2">
    <button class="btn btn-primary" disabled={busy || !name}>Create channel</button>
    <a class="btn btn-ghost" href="#/channels">Cancel</a>
  </div>
</form>
