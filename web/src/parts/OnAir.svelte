<script lang="ts">
  // What is on air of the channels that may be listed, for anybody.
  import type { Listed } from "../lib/types";
  let list = $state<Listed[] | undefined>();
  let failed = $state(false);
  let turn = $state(0); // of the pictures: each is fetched again

  async function load() {
    const res = await fetch("/api/v1/public").catch(() => undefined);
    failed = !res?.ok;
    if (res?.ok) list = (await res.json()) as Listed[];
    turn++;
  }
  $effect(() => {
    void load();
    const each = setInterval(() => void load(), 10_000);
    return () => clearInterval(each);
  });
</script>

<main class="w-full p-4 pt-1" aria-busy={!list && !failed}>
  {#if failed}
    <p class="border-warning mb-4 border-l-3 bg-white/10 px-3 py-2 text-sm" role="alert">
      The service does not answer. What is shown may be old; the page asks again every 10 s.
    </p>
  {/if}
  {#if !list}
    <div class="grid gap-4 sm:grid-cols-2 lg:grid-cols-3 2xl:grid-cols-4">
      {#each [0, 1, 2] as n (n)}<div class="skeleton aspect-video bg-white/10"></div>{/each}
    </div>
  {:else if list.length === 0}
    <p class="py-24 text-center text-white/70">Nothing is on air now. This page checks again every 10 s.</p>
  {:else}
    <ul class="grid gap-4 sm:grid-cols-2 lg:grid-cols-3 2xl:grid-cols-4" data-on-air>
      {#each list as c (c.channel)}
        <li>
          <a
            href={c.watch}
            class="rounded-box block overflow-hidden bg-white/5 outline-offset-2 hover:bg-white/10 focus-visible:outline-2"
          >
            <img src="{c.picture}?at={turn}" alt="" class="aspect-video w-full bg-black object-cover" />
            <span class="block truncate px-3 py-2 font-medium">{c.title || c.channel}</span>
          </a>
        </li>
      {/each}
    </ul>
  {/if}
</main>
