<script lang="ts">
  import { clock } from "../lib/format";
  import type { Status } from "../lib/types";
  let { channel }: { channel: Status } = $props();
  // A picture from before the sender left is told from one on air.
  const onAir = $derived(!!channel.feed);
</script>

<div
  class="bg-neutral relative grid aspect-video h-full w-full place-items-center overflow-hidden sm:aspect-auto"
>
  {#if channel.pictureAt}
    <img
      src="/media/{channel.slug}/picture.jpg?at={channel.pictureAt}"
      alt={onAir ? `On air: ${channel.title}` : `The last picture of ${channel.title}`}
      class={["size-full object-contain", !onAir && "opacity-30 grayscale"]}
    />
  {/if}
  {#if !onAir}
    <p class="text-neutral-content absolute px-2 text-center text-sm">
      No sender{channel.lastFeed ? ` since ${clock(channel.lastFeed.ended)}` : ""}
    </p>
  {:else if !channel.pictureAt}
    <p class="text-neutral-content absolute text-sm">Waiting for a picture …</p>
  {/if}
</div>
