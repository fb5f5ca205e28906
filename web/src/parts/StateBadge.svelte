<script lang="ts">
  import type { State } from "../lib/types";
  let { state }: { state: State } = $props();
  const looks: Record<State, { text: string; style: string; dot: string }> = {
    live: { text: "Live", style: "bg-success/15 text-success", dot: "bg-success" },
    starting: { text: "Starting", style: "bg-info/15 text-info", dot: "bg-info animate-pulse" },
    waiting: { text: "No sender", style: "bg-base-300/60 text-base-content/80", dot: "bg-base-content/40" },
    degraded: { text: "Degraded", style: "bg-warning/20 text-base-content", dot: "bg-warning" },
    failed: { text: "Failed", style: "bg-error/15 text-error", dot: "bg-error" },
  };
  const look = $derived(looks[state]);
</script>

<span
  class={["rounded-selector inline-flex items-center gap-1.5 px-2 py-0.5 text-xs font-medium", look.style]}
  data-state={state}
>
  <span class={["size-1.5 rounded-full", look.dot]}></span>{look.text}
</span>
