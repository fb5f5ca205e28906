<script lang="ts">
  import { call } from "../lib/api";
  import type { Channel } from "../lib/types";
  import Trouble from "./Trouble.svelte";
  let { channel, changed }: { channel: Channel; changed: () => void } = $props();
  // svelte-ignore state_referenced_locally
  let title = $state(channel.settings.title);
  // svelte-ignore state_referenced_locally
  let segmentMillis = $state(channel.settings.segmentMillis);
  // svelte-ignore state_referenced_locally
  let window_ = $state(channel.settings.window);
  let error = $state<unknown>();
  let said = $state("");

  async function save(e: SubmitEvent) {
    e.preventDefault();
    error = undefined;
    said = "";
    try {
      await call("PATCH", `/channels/${channel.settings.slug}`, { title, segmentMillis, window: window_ });
      said = "Takes effect at the next segment.";
      changed();
    } catch (e) {
      error = e;
    }
  }
  async function remove() {
    if (!confirm(`Remove ${channel.settings.title}? Its sender is disconnected and viewers lose it.`)) return;
    try {
      await call("DELETE", `/channels/${channel.settings.slug}`);
      location.hash = "/channels";
    } catch (e) {
      error = e;
    }
  }
</script>

<form class="grid gap-3 p-4" onsubmit={save}>
  <div>
    <label class="label-quiet mb-1 block" for="t">Title</label>
    <input id="t" class="input input-sm w-full" bind:value={title} />
  </div>
  <div class="grid grid-cols-2 gap-3">
    <div>
      <label class="label-quiet mb-1 block" for="s">Segment length, ms</label>
      <input id="s" type="number" class="input input-sm w-full" bind:value={segmentMillis} />
    </div>
    <div>
      <label class="label-quiet mb-1 block" for="w">Segments in the playlist</label>
      <input id="w" type="number" class="input input-sm w-full" bind:value={window_} />
    </div>
  </div>
  <p class="label-quiet">
    Viewers see {((segmentMillis * window_) / 1000).toFixed(0)} s of playlist and start about
    {((segmentMillis * 3) / 1000 + 1).toFixed(0)} s behind live.
  </p>
  <Trouble {error} />
  <div class="flex items-center gap-3">
    <button class="btn btn-primary btn-sm">Save</button>
    <span class="label-quiet" role="status">{said}</span>
    <button type="button" class="btn btn-error btn-outline btn-sm ml-auto" onclick={remove}
      >Remove channel</button
    >
  </div>
</form>
