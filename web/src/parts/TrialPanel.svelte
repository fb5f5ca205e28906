<script lang="ts">
  // The last seconds of the feed, encoded in the background in many ways.
  import { onMount } from "svelte";
  import { call, Refused } from "../lib/api";
  import { kilobits } from "../lib/format";
  import { grouped, hull, ladderDots } from "../lib/trial";
  import type { NewLadder, Point, Rung, Status, Trial } from "../lib/types";
  import PointChart from "./PointChart.svelte";
  import Trouble from "./Trouble.svelte";
  let { slug, status, changed }: { slug: string; status: Status; changed: () => void } = $props();

  let rung = $state("");
  let trial = $state<Trial | undefined>();
  let error = $state<unknown>();
  let said = $state("");
  let timer: ReturnType<typeof setTimeout> | undefined;

  const coded = $derived(status.rungs.filter((r) => r.on && !r.source && (r.bitrate ?? 0) > 0));
  const running = $derived(trial?.state === "running");

  async function look() {
    clearTimeout(timer);
    try {
      trial = await call<Trial>("GET", `/channels/${slug}/trial`);
      if (trial.state === "running") timer = setTimeout(() => void look(), 700);
    } catch (e) {
      if (!(e instanceof Refused && e.status === 404)) error = e;
    }
  }
  onMount(() => {
    void look();
    return () => clearTimeout(timer);
  });
  async function begin() {
    error = undefined;
    said = "";
    try {
      trial = await call<Trial>("POST", `/channels/${slug}/trial`, rung ? { rung } : {});
      await look();
    } catch (e) {
      error = e;
    }
  }
  async function stop() {
    await call("DELETE", `/channels/${slug}/trial`).catch((e) => (error = e));
    await look();
  }
  async function apply(change: (l: NewLadder) => Rung[]) {
    error = undefined;
    try {
      const l = await call<NewLadder>("GET", `/channels/${slug}/ladder`);
      const rungs = change(l);
      await call<NewLadder>("PUT", `/channels/${slug}/ladder`, { ...l, planned: false, rungs });
      said = "Takes effect at the next segment.";
      changed();
    } catch (e) {
      error = e;
    }
  }
  /** use gives the rung the effort and bitrate of a point. */
  const use = (p: Point) =>
    apply((l) =>
      (l.rungs ?? []).map((r) =>
        r.name === trial?.rung ? { ...r, effort: p.effort, bitrate: p.asked, peak: 0 } : r,
      ),
    );
  const useAll = () => apply((l) => ((l.plan = undefined), trial?.proposed ?? []));
  const bits = $derived(
    trial
      ? [
          ...grouped(trial, (p) => p.bitrate / 1000),
          ...hull(trial),
          ...(trial.rung ? [] : ladderDots(trial, "the ladder now", status.rungs)),
          ...(trial.proposed ? ladderDots(trial, "proposed", trial.proposed, true) : []),
        ]
      : [],
  );
  const time = $derived(trial ? grouped(trial, (p) => p.micros / 1000) : []);
</script>

<div class="grid gap-3 p-3" data-trial={trial?.state ?? ""}>
  <div class="flex flex-wrap items-center gap-2">
    <label class="flex items-center gap-2 text-sm">
      <span>Try</span>
      <select class="select select-xs w-72" bind:value={rung} disabled={running} aria-label="What to try">
        <option value="">sizes and bitrates, for a new ladder</option>
        {#each coded as r (r.name)}<option value={r.name}>{r.name} at other efforts and bitrates</option
          >{/each}
      </select>
    </label>
    {#if running}
      <button class="btn btn-sm" onclick={stop}>Stop</button>
      <progress class="progress progress-primary w-40" value={trial?.done} max={trial?.of}></progress>
      <span class="label-quiet" role="status">{trial?.done} of {trial?.of} ways</span>
    {:else}
      <button class="btn btn-primary btn-sm" disabled={!status.feed} onclick={begin}
        >Try the last seconds</button
      >
    {/if}
    <span class="label-quiet" role="status">{said}</span>
  </div>
  <Trouble {error} />
  {#if trial?.state === "failed" || trial?.state === "stopped"}
    <p class="border-warning rounded-field bg-warning/15 border-l-3 px-3 py-2 text-sm" role="alert">
      The trial ended early: {trial.text}.
    </p>
  {/if}
  {#if !trial}
    <p class="label-quiet rounded-box bg-base-200 px-4 py-6 text-center">
      The last seconds of the feed are encoded in the background, with the lowest priority, to show what more
      bits or more effort would bring. Nothing on air changes until you use something of it.
    </p>
  {:else if trial.points.length}
    <div class="grid gap-3 lg:grid-cols-2">
      <PointChart
        groups={bits}
        log
        unit="kbit/s"
        label={trial.rung
          ? `Quality of ${trial.rung} against bitrate`
          : "Quality on one screen against bitrate, and the ladder"}
      />
      <PointChart groups={time} lines={false} unit="ms a picture" label="Quality against processor time" />
    </div>
    {#if trial.proposed?.length}
      <div class="rounded-box bg-base-200 flex flex-wrap items-center gap-3 px-3 py-2 text-sm" data-proposed>
        <p class="mr-auto">
          For this content: {trial.proposed
            .filter((r) => !r.source)
            .map((r) => `${r.width}×${r.height} at ${kilobits(r.bitrate)}`)
            .join(", ")} kbit/s, beside the source.
        </p>
        <button class="btn btn-primary btn-sm" onclick={useAll}>Use this ladder</button>
      </div>
    {/if}
    <div class="max-h-72 overflow-auto">
      <table class="table-xs table [&_td]:px-2 [&_td]:tabular-nums [&_th]:px-2">
        <thead
          ><tr
            ><th>Size</th><th>Effort</th><th>Asked kbit/s</th><th>Taken</th><th>PSNR</th><th>SSIM</th><th
              >A picture</th
            ><th>Of a processor</th><th><span class="sr-only">Use</span></th></tr
          ></thead
        >
        <tbody>
          {#each trial.points as p, i (i)}
            <tr>
              <td>{p.width}×{p.height}</td><td>{p.effort}</td><td>{kilobits(p.asked)}</td><td
                >{kilobits(p.bitrate)}</td
              >
              <td>{(p.psnr / 100).toFixed(2)} dB</td><td>{(p.ssim / 10000).toFixed(4)}</td>
              <td>{(p.micros / 1000).toFixed(1)} ms</td><td>{Math.round(p.load / 10)} %</td>
              <td
                >{#if trial.rung}<button class="btn btn-xs" onclick={() => use(p)}>Use</button>{/if}</td
              >
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {/if}
</div>
