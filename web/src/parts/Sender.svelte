<script lang="ts">
  // How senders reach the channel, protocol by protocol, and the keys that let them in.
  import { tabs } from "../lib/tabs";
  import { toDataURL } from "qrcode";
  import { call } from "../lib/api";
  import { ago } from "../lib/format";
  import { live } from "../lib/live.svelte";
  import type { Channel, Key } from "../lib/types";
  import CopyField from "./CopyField.svelte";
  import Trouble from "./Trouble.svelte";
  let { channel, changed }: { channel: Channel; changed: () => void } = $props();
  const slug = $derived(channel.settings.slug);

  let keys = $state<Key[] | undefined>();
  let label = $state("");
  let protocol = $state("");
  let hours = $state(0);
  let input = $state("");
  let made = $state<Key | undefined>();
  let shown = $state("");
  let picture = $state("");
  let error = $state<unknown>();
  let passphrase = $state("");
  let networks = $derived(channel.settings.access.senderNetworks ?? "");
  let said = $state("");
  const senders = $derived(made?.receives ? [] : (made?.senders ?? channel.addresses.senders));
  const receiving = "receiving"; // in place of a protocol
  const request = $derived(channel.addresses.receivers.find((r) => r.protocol === "SRT")?.url);
  const one = $derived(senders.find((s) => s.protocol === shown) ?? senders[0]);
  const names = $derived(
    (channel.settings.inputs ?? []).filter((i) => i.kind === "sender" && i.name).map((i) => i.name ?? ""),
  );
  const guest = $derived(
    made && senders.some((s) => s.protocol === "WebRTC")
      ? `${location.origin}/contribute/${slug}#${made.secret}`
      : "",
  );

  const load = () =>
    call<Key[]>("GET", `/channels/${slug}/keys`).then(
      (k) => (keys = k),
      (e) => (error = e),
    );
  $effect(() => void load());
  $effect(() => {
    const text = made && one ? one.url : "";
    if (text) void toDataURL(text, { margin: 1, width: 176 }).then((p) => (picture = p));
    else picture = "";
  });

  async function make(e: SubmitEvent) {
    e.preventDefault();
    error = undefined;
    try {
      made = await call<Key>("POST", `/channels/${slug}/keys`, {
        label: label || "sender",
        ...(protocol === receiving ? { receives: true } : { protocol, input }),
        expires: hours > 0 ? new Date(Date.now() + hours * 3600_000).toISOString() : undefined,
      });
      label = "";
      await load();
    } catch (e) {
      error = e;
    }
  }
  async function remove(k: Key) {
    if (!confirm(`Remove the key "${k.label || k.id}"? A sender that uses it is cut off.`)) return;
    await call("DELETE", `/channels/${slug}/keys/${k.id}`).catch((e) => (error = e));
    await load();
  }
  async function protect(e: SubmitEvent) {
    e.preventDefault();
    error = undefined;
    said = "";
    try {
      await call("PATCH", `/channels/${slug}`, {
        access: { senderNetworks: networks, ...(passphrase ? { passphrase } : {}) },
      });
      passphrase = "";
      said = "Holds for senders that connect from now on.";
      changed();
    } catch (e) {
      error = e;
    }
  }
</script>

<div class="grid gap-5 p-4">
  <section class="grid gap-3" aria-label="Sender settings" data-made-key={made ? "" : undefined}>
    {#if made?.receives}
      <p class="text-sm font-medium">
        Give this to who receives. The key is shown only now, and lets nobody send.
      </p>
      <CopyField
        label={request ? "Address over SRT" : "Key"}
        value={request ? request.replace("{rung}/KEY", made.secret ?? "") : (made.secret ?? "")}
        hint="Receivers are let in once they are turned on in the channel's settings."
      />
    {:else if made}<p class="text-sm font-medium">
        Put this into the encoder. The key is shown only now.
      </p>{/if}
    <div role="tablist" class="flex flex-wrap gap-1" aria-label="Protocol" {@attach tabs}>
      {#each senders as s (s.protocol)}
        <button
          role="tab"
          aria-selected={one?.protocol === s.protocol}
          tabindex={one?.protocol === s.protocol ? 0 : -1}
          class={["btn btn-xs", one?.protocol === s.protocol ? "btn-primary" : "btn-ghost"]}
          onclick={() => (shown = s.protocol)}>{s.protocol}</button
        >
      {/each}
    </div>
    {#if one}
      <div class="grid gap-3 sm:grid-cols-[1fr_auto]">
        <div class="grid content-start gap-3">
          <CopyField label="Server" value={one.server} />
          <CopyField
            label={one.protocol === "SRT"
              ? "Stream id"
              : one.protocol === "WebRTC"
                ? "Bearer token"
                : "Stream key"}
            value={one.key}
          />
          <CopyField label="Both in one address" value={one.url} hint={one.hint} />
          {#if guest && (one.protocol === "WebRTC" || made?.protocol === "WebRTC")}
            <CopyField
              label="Link for a guest"
              value={guest}
              hint="A page that sends camera, microphone or screen of whoever opens it. Cameras need HTTPS, but on this machine."
            />
          {/if}
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
    {/if}
    {#if made}<button class="btn btn-sm justify-self-start" onclick={() => (made = undefined)}
        >I have copied it</button
      >{/if}
  </section>
  <form class="flex flex-wrap items-end gap-2" onsubmit={make}>
    <label class="grid min-w-40 flex-1 gap-1"
      ><span class="label-quiet">New key</span>
      <input
        class="input input-sm w-full"
        bind:value={label}
        placeholder="What it is for, such as camera 1"
        aria-label="Label of the new key"
      /></label
    >
    <label class="grid gap-1"
      ><span class="label-quiet">For</span>
      <select class="select select-sm" bind:value={protocol} aria-label="Protocol of the new key">
        <option value="">any protocol</option>
        {#each ["RTMP", "SRT", "RTSP", "WebRTC", "HTTP"] as p (p)}<option>{p}</option>{/each}
        <option value={receiving}>receiving over SRT</option>
      </select></label
    >
    {#if names.length}
      <label class="grid gap-1"
        ><span class="label-quiet">Leads to</span>
        <select class="select select-sm" bind:value={input} aria-label="Input of the new key">
          <option value="">a free input</option>
          {#each names as n (n)}<option>{n}</option>{/each}
        </select></label
      >
    {/if}
    <label class="grid gap-1"
      ><span class="label-quiet">Valid</span>
      <select class="select select-sm" bind:value={hours} aria-label="How long the new key is valid">
        <option value={0}>forever</option>
        <option value={1}>1 hour</option>
        <option value={4}>4 hours</option>
        <option value={24}>a day</option>
        <option value={168}>a week</option>
      </select></label
    >
    <button class="btn btn-primary btn-sm">Make a key</button>
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
        ><tr
          ><th>Key</th><th>For</th><th>Last used</th><th>Ends</th><th><span class="sr-only">Remove</span></th
          ></tr
        ></thead
      >
      <tbody>
        {#each keys as k (k.id)}
          <tr>
            <td>{k.label || `key ${k.id}`}</td>
            <td>{k.receives ? "receiving" : [k.protocol, k.input].filter(Boolean).join(", ") || "any"}</td>
            <td>{k.used ? `${ago(k.used, live.now)} ago` : "never"}</td>
            <td
              >{k.expires
                ? Date.parse(k.expires) > live.now
                  ? new Date(k.expires).toLocaleString([], { dateStyle: "short", timeStyle: "short" })
                  : "has ended"
                : "never"}</td
            >
            <td class="text-right"
              ><button class="btn btn-ghost btn-xs" onclick={() => remove(k)}>Remove</button></td
            >
          </tr>
        {/each}
      </tbody>
    </table>
  {/if}
  <form class="rounded-box bg-base-200 flex flex-wrap items-end gap-3 p-3" onsubmit={protect}>
    <label class="grid min-w-40 flex-1 gap-1"
      ><span class="label-quiet">Networks that senders may come from</span>
      <input class="input input-sm w-full font-mono" bind:value={networks} placeholder="everywhere" /></label
    >
    <label class="grid gap-1"
      ><span class="label-quiet">Passphrase over SRT</span>
      <input
        class="input input-sm"
        type="password"
        autocomplete="new-password"
        bind:value={passphrase}
        placeholder={channel.settings.access.passphrase ? "set; type to change" : "none"}
      /></label
    >
    <button class="btn btn-sm">Save</button>
    <span class="label-quiet" role="status">{said}</span>
  </form>
</div>
