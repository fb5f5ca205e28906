<script lang="ts">
  import { toDataURL } from "qrcode";
  import { call } from "../lib/api";
  import { ago } from "../lib/format";
  import { live } from "../lib/live.svelte";
  import type { Addresses, Key } from "../lib/types";
  import CopyField from "./CopyField.svelte";
  import Trouble from "./Trouble.svelte";
  let { slug, addresses }: { slug: string; addresses: Addresses } = $props();

  let keys = $state<Key[] | undefined>();
  let label = $state("");
  let made = $state<Key | undefined>();
  let picture = $state("");
  let error = $state<unknown>();

  const load = () =>
    call<Key[]>("GET", `/channels/${slug}/keys`).then(
      (k) => (keys = k),
      (e) => (error = e),
    );
  $effect(() => void load());

  async function make(e: SubmitEvent) {
    e.preventDefault();
    error = undefined;
    try {
      made = await call<Key>("POST", `/channels/${slug}/keys`, { label: label || "sender" });
      picture = made.url ? await toDataURL(made.url, { margin: 1, width: 176 }) : "";
      label = "";
      await load();
    } catch (e) {
      error = e;
    }
  }
  async function remove(k: Key) {
    if (!confirm(`Remove the key "${k.label || k.id}"? A sender that uses it cannot connect again.`)) return;
    await call("DELETE", `/channels/${slug}/keys/${k.id}`).catch((e) => (error = e));
    await load();
  }
</script>

<div class="grid gap-4 p-4">
  {#if made}
    <div class="rounded-box border-primary/50 bg-primary/8 grid gap-3 border p-3" data-made-key>
      <p class="text-sm font-medium">Put this into the encoder. The key is shown only now.</p>
      <div class="grid gap-3 sm:grid-cols-[1fr_auto]">
        <div class="grid gap-3">
          <CopyField label="Server" value={made.server ?? ""} />
          <CopyField label="Stream key" value={made.secret ?? ""} />
          <CopyField label="Both in one address" value={made.url ?? ""} />
        </div>
        {#if picture}
          <figure class="text-center">
            <img
              src={picture}
              alt="QR code of the address with the key"
              class="rounded-field mx-auto size-44 bg-white"
            />
            <figcaption class="label-quiet mt-1">For a phone's camera app</figcaption>
          </figure>
        {/if}
      </div>
      <button class="btn btn-sm justify-self-start" onclick={() => (made = undefined)}
        >I have copied it</button
      >
    </div>
  {:else}
    <CopyField
      label="Server"
      value={addresses.server || "RTMP is turned off"}
      hint="RTMP. H.264, HEVC, VP8, VP9 or AV1, with AAC, Opus, MP3 or AC-3. Keyframes every two seconds. The stream key is made below."
    />
    {#if addresses.secure}<CopyField label="Server over TLS" value={addresses.secure} />{/if}
  {/if}
  <form class="join" onsubmit={make}>
    <input
      class="input input-sm join-item w-full max-w-64"
      bind:value={label}
      placeholder="What the key is for, such as camera 1"
      aria-label="Label of the new key"
    />
    <button class="btn btn-primary btn-sm join-item">Make a key</button>
  </form>
  <Trouble {error} />
  {#if keys === undefined && !error}
    <div class="skeleton h-16"></div>
  {:else if keys?.length === 0}
    <p class="label-quiet rounded-box bg-base-200 px-4 py-5 text-center">
      No key yet. A sender needs one to connect.
    </p>
  {:else if keys}
    <table class="table-sm table">
      <thead
        ><tr><th>Key</th><th>Made</th><th>Last used</th><th><span class="sr-only">Remove</span></th></tr
        ></thead
      >
      <tbody>
        {#each keys as k (k.id)}
          <tr>
            <td>{k.label || `key ${k.id}`}</td>
            <td>{ago(k.created, live.now)} ago</td>
            <td>{k.used ? `${ago(k.used, live.now)} ago` : "never"}</td>
            <td class="text-right"
              ><button class="btn btn-ghost btn-xs" onclick={() => remove(k)}>Remove</button></td
            >
          </tr>
        {/each}
      </tbody>
    </table>
  {/if}
</div>
