<script lang="ts">
  import { call } from "../lib/api";
  import Trouble from "../parts/Trouble.svelte";
  let { user, role, leave }: { user: string; role: string; leave: () => void } = $props();
  let old = $state("");
  let next = $state("");
  let error = $state<unknown>();

  async function submit(e: SubmitEvent) {
    e.preventDefault();
    error = undefined;
    try {
      await call("POST", "/password", { old, new: next });
      location.reload(); // every session has ended: sign in again
    } catch (e) {
      error = e;
    }
  }
</script>

<form class="panel mx-auto max-w-md p-5" onsubmit={submit}>
  <h1 class="mb-1 text-lg font-semibold">Password of {user}</h1>
  <p class="label-quiet mb-4">Your role is {role}.</p>
  <label class="label-quiet mb-1 block" for="old">Old password</label>
  <input
    id="old"
    type="password"
    class="input mb-3 w-full"
    autocomplete="current-password"
    bind:value={old}
    required
  />
  <label class="label-quiet mb-1 block" for="next">New password, at least 10 characters</label>
  <input
    id="next"
    type="password"
    class="input mb-4 w-full"
    autocomplete="new-password"
    minlength="10"
    bind:value={next}
    required
  />
  <Trouble {error} />
  <button class="btn btn-primary mt-2">Change password</button>
  <p class="label-quiet mt-3">This ends all console sessions. Client tokens stay valid.</p>
  <button type="button" class="btn mt-4 sm:hidden" onclick={leave}>Sign out</button>
</form>
