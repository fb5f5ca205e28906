<script lang="ts">
  import { clock } from "../lib/format";
  import type { Event } from "../lib/types";
  let { events, showChannel = false }: { events: Event[]; showChannel?: boolean } = $props();
  const mark = { info: "bg-info/60", warning: "bg-warning", failure: "bg-error" };
</script>

{#if events.length === 0}
  <p class="label-quiet px-4 py-8 text-center">Nothing has happened yet.</p>
{:else}
  <ol class="divide-base-300 divide-y text-sm">
    {#each events as e (e.id)}
      <li class="grid grid-cols-[4.5rem_1fr] gap-2 px-4 py-2">
        <time class="label-quiet pt-0.5" datetime={e.at} title={new Date(e.at).toLocaleString()}
          >{clock(e.at)}</time
        >
        <div class="min-w-0">
          <p class="wrap-anywhere">
            <span
              class={["mr-1.5 inline-block size-2 rounded-full align-middle", mark[e.level]]}
              title={e.level}
            ></span>
            {#if showChannel && e.channel}<a
                class="bg-base-200 rounded-selector hover:text-primary mr-1 px-1.5 py-0.5 text-xs font-medium"
                href="#/channels/{e.channel}">{e.channel}</a
              >{/if}
            {e.text}
            {#if e.count && e.count > 1}<span class="label-quiet whitespace-nowrap"
                >{e.count} times, last {clock(e.last ?? e.at)}</span
              >{/if}
          </p>
          {#if e.do}<p class="label-quiet mt-0.5">{e.do}</p>{/if}
        </div>
      </li>
    {/each}
  </ol>
{/if}
