<script lang="ts">
  let {
    label,
    value,
    hint = "",
    lines = false,
  }: { label: string; value: string; hint?: string; lines?: boolean } = $props();
  let done = $state(false);
  let field = $state<HTMLInputElement | HTMLTextAreaElement>();
  const id = $props.id();

  async function copy() {
    try {
      await navigator.clipboard.writeText(value);
    } catch {
      field?.select(); // pages without a secure context have no clipboard of their own
      document.execCommand("copy");
    }
    done = true;
    setTimeout(() => (done = false), 1500);
  }
</script>

<div>
  <label class="label-quiet mb-1 block" for={id}>{label}</label>
  <div class="join w-full">
    {#if lines}
      <textarea
        bind:this={field}
        {id}
        readonly
        rows="3"
        class="textarea textarea-sm join-item w-full font-mono text-xs"
        {value}></textarea>
    {:else}
      <input
        bind:this={field}
        {id}
        readonly
        class="input input-sm join-item w-full font-mono text-xs"
        {value}
        onfocus={() => field?.select()}
      />
    {/if}
    <button
      class="btn btn-sm join-item"
      class:h-auto={lines}
      onclick={copy}
      aria-label="Copy {label.toLowerCase()}">{done ? "Copied" : "Copy"}</button
    >
  </div>
  {#if hint}<p class="label-quiet mt-1">{hint}</p>{/if}
</div>
