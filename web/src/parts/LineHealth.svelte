<script lang="ts">
  // How the line of the feed on air is: what its protocol measures, and what came when.
  import { bitrate } from "../lib/format";
  import { checks } from "../lib/input";
  import { live } from "../lib/live.svelte";
  import type { Status } from "../lib/types";
  import Chart from "./Chart.svelte";
  import Fact from "./Fact.svelte";
  let { slug, status }: { slug: string; status: Status } = $props();
  const input = $derived(status.inputs.find((i) => i.onAir) ?? status.inputs.find((i) => i.line));
  const line = $derived(input?.line);
  const ts = $derived(line?.ts);
  const srt = $derived(line?.srt);
  $effect(() => void live.want(slug));
  const h = $derived(live.history[slug]);
  let span = $state(300);
  const spans = [
    [300, "5 min"],
    [900, "15 min"],
    [3600, "1 h"],
  ] as const;
  const ms = (v: number) => `${Math.round(v)} ms`;
  const micros = (v: number) => `${(v / 1000).toFixed(v < 10_000 ? 1 : 0)} ms`;
  const count = (v: number) => (Number.isInteger(v) ? String(v) : "");
  const curves = $derived(
    (
      [
        ["rtt", "Round trip", micros, 1000],
        ["jitter", "Jitter of arrival", micros, 1000],
        ["lost", "Packets lost, each 5 s", count, 4],
        ["gap", "Longest gap", ms, 100],
        ["keyframes", "Distance of keyframes", ms, 1000],
        ["apart", "Newest picture behind newest sound", ms, 20],
      ] as const
    ).filter(([name]) => h?.arrival?.[name]),
  );
  const number = (v: number) => v.toLocaleString("en").replaceAll(",", " ");
</script>

{#if !status.feed}
  <p class="label-quiet px-4 py-8 text-center">
    Nothing is on air. The line is measured once something comes.
  </p>
{:else}
  <div class="grid gap-5 p-4" data-line>
    {#if srt}
      <section aria-label="SRT">
        <h3 class="mb-2 text-sm font-semibold">SRT</h3>
        {#if srt.advice}<p class="rounded-box bg-base-200 mb-3 px-3 py-2 text-sm" data-advice>
            {srt.advice}
          </p>{/if}
        <dl class="grid grid-cols-2 gap-3 sm:grid-cols-4">
          <Fact label="Round trip" value={micros(srt.rtt)} />
          <Fact label="Latency" value={ms(srt.latency)} />
          <Fact label="Waits in the buffer" value={ms(srt.buffer)} />
          <Fact label="Bitrate" value={bitrate(srt.bitrate)} />
          <Fact label="Packets" value={number(srt.received)} />
          <Fact
            label="Lost on the way"
            value={number(srt.lost)}
            tone={srt.lost > srt.received / 20 ? "text-warning" : ""}
          />
          <Fact label="Sent again" value={number(srt.retransmitted)} />
          <Fact
            label="Too late, dropped"
            value={number(srt.dropped)}
            tone={srt.dropped ? "text-error" : "text-success"}
          />
          <Fact label="Line, estimated" value={bitrate(srt.bandwidth)} />
          <Fact label="Encrypted" value={srt.encrypted ? "yes" : "no"} />
          <Fact
            label="Not decrypted"
            value={number(srt.undecrypted)}
            tone={srt.undecrypted ? "text-error" : ""}
          />
          <Fact label="Other side" value={srt.version ? `SRT ${srt.version}` : "–"} />
        </dl>
      </section>
    {/if}
    {#if line?.rtp}
      <section aria-label="RTP">
        <h3 class="mb-2 text-sm font-semibold">RTP</h3>
        <dl class="grid grid-cols-2 gap-3 sm:grid-cols-4">
          <Fact label="Packets" value={number(line.rtp.packets)} />
          <Fact label="Lost" value={number(line.rtp.lost)} tone={line.rtp.lost ? "text-warning" : ""} />
          <Fact label="Put in order" value={number(line.rtp.reordered)} />
          <Fact label="Too late" value={number(line.rtp.late)} />
          <Fact label="Jitter" value={micros(line.rtp.jitter)} />
          <Fact label="Of other streams" value={number(line.rtp.other)} />
        </dl>
      </section>
    {/if}
    {#if line?.socket}
      <section aria-label="Socket">
        <h3 class="mb-2 text-sm font-semibold">UDP</h3>
        <dl class="grid grid-cols-2 gap-3 sm:grid-cols-4">
          <Fact label="Datagrams" value={number(line.socket.packets)} />
          <Fact label="System’s buffer" value={`${(line.socket.buffer / 1e6).toFixed(1)} MB`} />
          <Fact
            label="Found it full"
            value={number(line.socket.overruns)}
            tone={line.socket.overruns ? "text-error" : "text-success"}
          />
        </dl>
      </section>
    {/if}
    {#if ts}
      <section aria-label="Transport stream">
        <h3 class="mb-2 text-sm font-semibold">Transport stream</h3>
        <dl class="mb-3 grid grid-cols-2 gap-3 sm:grid-cols-4">
          <Fact label="Bitrate" value={bitrate(ts.bitrate)} />
          <Fact label="Of it stuffing" value={bitrate(ts.nullBitrate)} />
          <Fact label="PAT every" value={ms(ts.patInterval)} />
          <Fact label="PMT every" value={ms(ts.pmtInterval)} />
          <Fact label="PCR every" value={ms(ts.pcrInterval)} />
          <Fact label="PCR jitter" value={micros(ts.jitter)} />
          <Fact label="PCR accuracy" value={ts.accuracy < 0 ? "rate varies" : `${ts.accuracy} ns`} />
        </dl>
        <div class="grid items-start gap-4 xl:grid-cols-2">
          <table class="table-xs table" data-checks>
            <caption class="label-quiet pb-1 text-left">First and second priority of TR 101 290</caption>
            <tbody>
              {#each checks(ts) as c (c.number)}
                <tr title={c.means}>
                  <td class="label-quiet w-10">{c.number}</td>
                  <td>{c.name}</td>
                  <td class={["text-right tabular-nums", c.count ? "text-error font-medium" : "text-success"]}
                    >{c.count ? number(c.count) : "none"}</td
                  >
                </tr>
              {/each}
            </tbody>
          </table>
          <table class="table-xs table" data-pids>
            <caption class="label-quiet pb-1 text-left">Packet identifiers</caption>
            <thead><tr><th>PID</th><th>Carries</th><th class="text-right">Bitrate</th></tr></thead>
            <tbody>
              {#each ts.pids ?? [] as p (p.pid)}
                <tr>
                  <td class="font-mono">{p.pid}</td>
                  <td
                    >{p.label}{p.programme ? `, programme ${p.programme}` : ""}{#if p.scrambled}<span
                        class="text-error"
                      >
                        · scrambled</span
                      >{/if}{#if p.continuity}<span class="text-error"> · {p.continuity} gaps</span>{/if}</td
                  >
                  <td class="text-right tabular-nums">{bitrate(p.bitrate)}</td>
                </tr>
              {/each}
            </tbody>
          </table>
        </div>
      </section>
    {/if}
    <section aria-label="Arrival">
      <div class="mb-2 flex items-center gap-2">
        <h3 class="text-sm font-semibold">Arrival</h3>
        <div class="join ml-auto" role="group" aria-label="Span of the curves">
          {#each spans as [s, text] (s)}
            <button
              class={["btn btn-xs join-item", span === s && "btn-primary"]}
              aria-pressed={span === s}
              onclick={() => (span = s)}>{text}</button
            >
          {/each}
        </div>
      </div>
      {#if h && curves.length}
        <div class="grid gap-3 xl:grid-cols-2">
          {#each curves as [name, label, format, least] (name)}
            <div>
              <p class="label-quiet">{label}</p>
              <Chart
                values={(h.arrival?.[name] ?? []).map((v) => Math.abs(v))}
                every={h.every}
                until={h.until}
                {span}
                {label}
                {format}
                {least}
                height={80}
              />
            </div>
          {/each}
        </div>
      {:else}
        <div class="skeleton h-24"></div>
      {/if}
    </section>
  </div>
{/if}
