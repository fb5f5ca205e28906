<script lang="ts">
  import { call, Refused } from "./lib/api";
  import { clock } from "./lib/format";
  import { live } from "./lib/live.svelte";
  import type { Event, Me } from "./lib/types";
  import { session } from "./lib/session.svelte";
  import Operate from "./parts/Operate.svelte";
  import TopBar from "./parts/TopBar.svelte";
  import ChannelPage from "./pages/ChannelPage.svelte";
  import EventsPage from "./pages/EventsPage.svelte";
  import LibraryPage from "./pages/LibraryPage.svelte";
  import Players from "./pages/Players.svelte";
  import NewChannel from "./pages/NewChannel.svelte";
  import Overview from "./pages/Overview.svelte";
  import Account from "./pages/Account.svelte";
  import SignIn from "./pages/SignIn.svelte";

  let asked = $state(false);
  let trouble = $state("");
  let route = $state(location.hash.slice(1) || "/channels");

  let again: ReturnType<typeof setTimeout> | undefined;

  async function enter() {
    clearTimeout(again);
    try {
      Object.assign(session, await call<Me>("GET", "/me"));
      live.start(await call<Event[]>("GET", "/events?limit=200"), () => void enter());
      trouble = "";
    } catch (e) {
      const out = e instanceof Refused && e.status === 401;
      if (session.user && !out) {
        again = setTimeout(() => void enter(), 2000); // the service is away; what is shown is marked as old
        return;
      }
      live.stop();
      trouble =
        out && session.user
          ? "You were signed out. Sign in again."
          : e instanceof Refused && !out
            ? e.message
            : "";
      session.user = undefined;
    }
    asked = true;
  }

  async function leave() {
    try {
      await call("POST", "/sign-out");
    } catch (e) {
      if (!(e instanceof Refused && e.status === 401)) {
        trouble = `You are still signed in: ${e instanceof Error ? e.message : e}`;
        return;
      }
    }
    trouble = "";
    live.stop();
    session.user = undefined;
  }

  const parts = $derived(route.split("/").filter(Boolean).map(decodeURIComponent));
  $effect(() => {
    void enter();
    return () => {
      clearTimeout(again);
      live.stop();
    };
  });
</script>

<svelte:window onhashchange={() => (route = location.hash.slice(1) || "/channels")} />

{#if !asked}
  <div class="grid min-h-screen place-items-center">
    <span class="loading loading-bars text-primary"></span>
  </div>
{:else if !session.user}
  <SignIn {trouble} done={enter} />
{:else}
  <TopBar user={session.user} {leave} section={parts[0] ?? "channels"} />
  {#if trouble}
    <div class="bg-error/15 border-error border-b px-3 py-2 text-sm sm:px-5" role="alert" data-trouble>
      <p class="mx-auto flex max-w-[2200px] items-center gap-3">
        <strong class="font-medium">{trouble}</strong>
        <button class="btn btn-xs" onclick={() => (trouble = "")}>Hide</button>
      </p>
    </div>
  {/if}
  {#each live.health as p (p.what)}
    <div
      class="bg-error/15 border-error border-b px-3 py-2 text-sm sm:px-5"
      role="alert"
      data-health={p.what}
    >
      <p class="mx-auto max-w-[2200px]">
        <strong class="font-medium">{p.text}</strong>
        <span class="label-quiet">Since {clock(p.since)}. {p.do}</span>
      </p>
    </div>
  {/each}
  {#if live.known && !live.connected}
    <div class="bg-warning/20 border-warning border-b px-3 py-2 text-sm sm:px-5" role="status" data-old>
      <p class="mx-auto max-w-[2200px]">
        What you see is from {clock(new Date(live.heard).toISOString())}: the service does not answer. Trying
        again …
      </p>
    </div>
  {/if}
  <main
    class={[
      "mx-auto max-w-[2200px] px-3 py-4 transition-[filter,opacity] sm:px-5",
      live.known && !live.connected && "opacity-60 grayscale",
    ]}
  >
    {#if parts[0] === "events"}
      <EventsPage section={parts[1] ?? ""} role={session.role} />
    {:else if parts[0] === "library"}
      <LibraryPage chosen={parts[1] ?? ""} />
    {:else if parts[0] === "players"}
      <Players tiles={parts[1] ?? ""} />
    {:else if parts[0] === "account"}
      <Account user={session.user} role={session.role} {leave} />
    {:else if parts[0] === "new"}
      <Operate><NewChannel /></Operate>
    {:else if parts[0] === "channels" && parts[1]}
      {#key parts[1]}<ChannelPage slug={parts[1]} tab={parts[2] ?? "inputs"} section={parts[3] ?? ""} />{/key}
    {:else}
      <Overview />
    {/if}
  </main>
{/if}
