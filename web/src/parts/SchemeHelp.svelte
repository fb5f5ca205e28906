<script lang="ts">
  /** What an address may be: all schemes, and once one is typed, its parameters. */
  import { schemeOf } from "../lib/scheme";
  import type { Scheme } from "../lib/schemes";

  let { schemes, address }: { schemes: Scheme[]; address: string } = $props();
  const scheme = $derived(schemeOf(schemes, address));
  const plain = (text: string) => text.replaceAll("`", "");
</script>

{#if scheme}
  <div class="label-quiet grid gap-1" data-scheme={scheme.name}>
    <p>{plain(scheme.help)}</p>
    {#if scheme.parameters.length}
      <dl class="grid grid-cols-[max-content_1fr] gap-x-3">
        {#each scheme.parameters as p (p.name)}
          <dt class="font-mono">{p.name}</dt>
          <dd>
            {p.help}{p.values ? `: ${p.values.join(", ")}` : ""}{p.default ? `; ${p.default} without it` : ""}
          </dd>
        {/each}
      </dl>
    {/if}
  </div>
{:else}
  <p class="label-quiet">
    {schemes.map((s) => s.name).join(", ")}. A key, passphrase or password in the address is kept as a secret.
  </p>
{/if}
