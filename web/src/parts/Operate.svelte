<script lang="ts">
  import type { Snippet } from "svelte";
  import { session } from "../lib/session.svelte";
  let { children }: { children: Snippet } = $props();
</script>

{#if !session.operates}
  <p class="label-quiet px-4 pt-3" data-watching>
    You may look at this and not change it. Whoever administers this service can make you an operator.
  </p>
{/if}
<fieldset class="contents" disabled={!session.operates}>{@render children()}</fieldset>
