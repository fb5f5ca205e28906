<script lang="ts">
  import { call } from "../lib/api";
  import Trouble from "../parts/Trouble.svelte";
  let { done, trouble }: { done: () => void; trouble: string } = $props();
  let user = $state("admin");
  let password = $state("");
  let busy = $state(false);
  let error = $state<unknown>();

  async function submit(e: SubmitEvent) {
    e.preventDefault();
    busy = true;
    error = undefined;
    try {
      await call("POST", "/sign-in", { user, password });
      done();
    } catch (e) {
      error = e;
    }
    busy = false;
  }
</script>

<div class="grid min-h-screen place-items-center p-4">
  <form class="panel w-full max-w-sm p-6" onsubmit={submit}>
    <div class="mb-5 flex items-center gap-3">
      <img src="/icon.svg" alt="" class="size-9" />
      <div>
        <h1 class="text-lg leading-tight font-semibold">Metaplasis</h1>
        <p class="label-quiet">Sign in to the console</p>
      </div>
    </div>
    <label class="label-quiet mb-1 block" for="user">User</label>
    <input id="user" class="input mb-3 w-full" autocomplete="username" bind:value={user} required />
    <label class="label-quiet mb-1 block" for="password">Password</label>
    <!-- The page is for nothing else. -->
    <!-- svelte-ignore a11y_autofocus -->
    <input
      id="password"
      class="input mb-4 w-full"
      type="password"
      autocomplete="current-password"
      bind:value={password}
      required
      autofocus
    />
    <Trouble error={error ?? trouble} />
    <button class="btn btn-primary mt-2 w-full" disabled={busy}>{busy ? "Signing in …" : "Sign in"}</button>
    <p class="label-quiet mt-4">
      The first start of the service printed the password. If it is lost, set a new one on the server with
      <code>metaplasis password</code>.
    </p>
  </form>
</div>
