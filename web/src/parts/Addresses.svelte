<script lang="ts">
  import type { Addresses } from "../lib/types";
  import CopyField from "./CopyField.svelte";
  let { addresses: a }: { addresses: Addresses } = $props();
</script>

<div class="grid gap-3 p-4">
  <CopyField label="Player for viewers" value={a.watch} />
  <CopyField
    label="HLS playlist"
    value={a.hls}
    hint="For players and set-top boxes. It names every rendition that is on."
  />
  <CopyField label="Code to put into a web page" value={a.code} lines />
  <CopyField label="Preview picture" value={a.picture} hint="A small JPEG, new every two seconds." />
  <p><a class="btn btn-sm" href={a.watch} target="_blank" rel="noopener">Open the player</a></p>
</div>
