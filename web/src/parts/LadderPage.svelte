<script lang="ts">
  // What is made of the source: the rungs, what comes out of them, and what else could.
  import Operate from "./Operate.svelte";
  import type { Status } from "../lib/types";
  import Compare from "./Compare.svelte";
  import Graph from "./Graph.svelte";
  import LadderEditor from "./LadderEditor.svelte";
  import Levels from "./Levels.svelte";
  import QualityCurves from "./QualityCurves.svelte";
  import RenditionTable from "./RenditionTable.svelte";
  import TrialPanel from "./TrialPanel.svelte";
  let {
    slug,
    section,
    status,
    changed,
  }: { slug: string; section: string; status: Status; changed: () => void } = $props();
  const sections = [
    ["", "Rungs"],
    ["output", "What comes out"],
    ["compare", "Compare"],
    ["trial", "Trial"],
  ];
</script>

<nav class="flex flex-wrap gap-1 px-3 pt-2" aria-label="Ladder">
  {#each sections as [key, text] (key)}
    <a
      href="#/channels/{slug}/ladder{key && `/${key}`}"
      aria-current={section === key ? "page" : undefined}
      class={["btn btn-xs", section === key ? "btn-primary" : "btn-ghost"]}>{text}</a
    >
  {/each}
</nav>
{#if section === "output"}
  <RenditionTable {status} />
  <Levels {status} />
  <QualityCurves {slug} {status} />
  <Graph {status} />
{:else if section === "compare"}
  <Compare {slug} {status} />
{:else if section === "trial"}
  <Operate><TrialPanel {slug} {status} {changed} /></Operate>
{:else}
  <Operate><LadderEditor {slug} {status} {changed} /></Operate>
  <RenditionTable {status} />
{/if}
