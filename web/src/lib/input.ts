import type { Input, InputStatus, Programme, Status, StreamHealth } from "./types";

/** same reports whether two inputs are one, whatever their secrets. */
export function same(a: Input, b: Input): boolean {
  const key = (i: Input) =>
    [i.kind, i.name, i.file, i.address, i.channel, i.programme, i.onDemand].map((v) => v || "").join("\n");
  return key(a) === key(b);
}

/** bare leaves what the status adds to an input out. */
export function bare(i: Input): Input {
  const { kind, name, file, address, channel, programme, secret, onDemand } = i;
  return { kind, name, file, address, channel, programme, secret, onDemand };
}

/** inputName is what people call an input. */
export function inputName(i: Input): string {
  const programme = i.programme ? `, programme ${i.programme}` : "";
  switch (i.kind) {
    case "address":
      return (i.address ?? "") + programme;
    case "studio":
      return `source ${i.name}`;
    case "channel":
      return `channel ${i.channel}${i.programme ? `, rung ${i.programme}` : ""}`;
    case "programme":
      return `programme ${i.programme || "1"} of ${i.channel}`;
    case "file":
      return `recording ${i.file}`;
    case "items":
      return `items ${(i.file ?? "").split("+").join(", ")}`;
    case "slate":
      return i.file ? `slate ${i.file}` : "slate";
  }
  return i.name ? `senders, ${i.name}` : "senders" + programme;
}

/** inputState says how an input is. */
export function inputState(i: InputStatus): string {
  if (i.onAir) return "on air";
  if (i.standby) return "stands by";
  if (i.problem) return i.problem;
  return i.onDemand ? "waits for viewers" : "waits";
}

/** programmeTracks says what a programme carries. */
export function programmeTracks(p: Programme): string {
  const list = p.tracks.map((t) => (t.language ? `${t.label} (${t.language})` : t.label));
  return list.length ? list.join(", ") : "not known yet";
}

/** programmeName is what people call a programme. */
export function programmeName(p: Programme): string {
  return p.name ? `${p.number} ${p.name}` : String(p.number);
}

/** arrival is what is measured of the feed on air, as the service keeps it; lost counts from the feed's begin. */
export function arrival(c: Status): { now: Record<string, number>; lost: number | undefined } {
  const now: Record<string, number> = {};
  let lost: number | undefined;
  if (c.feed) {
    now.gap = c.feed.gapMillis ?? 0;
    now.keyframes = c.feed.keyMillis ?? 0;
    now.apart = c.feed.apartMillis ?? 0;
  }
  const l = c.inputs?.find((i) => i.onAir)?.line;
  if (l?.rtp) [now.jitter, lost] = [l.rtp.jitter, l.rtp.lost];
  if (l?.srt) [now.rtt, lost] = [l.srt.rtt, l.srt.lost];
  if (l?.ts) {
    now.jitter = l.ts.jitter;
    lost ??= l.ts.continuity;
  }
  return { now, lost };
}

/** A line of what a broadcaster watches: ETSI TR 101 290, 5.2. */
export interface Check {
  number: string;
  name: string;
  count: number;
  means: string;
}

/** checks lists the first two priorities with what they mean. */
export function checks(h: StreamHealth): Check[] {
  return (
    [
      ["1.1", "Sync loss", h.syncLoss, "packets could not be found"],
      ["1.2", "Sync byte", h.syncByte, "packets that do not begin as they should"],
      ["1.3", "PAT", h.pat, "the list of programmes later than 0.5 s"],
      ["1.4", "Continuity", h.continuity, "packets are missing, or in another order"],
      ["1.5", "PMT", h.pmt, "a programme’s map later than 0.5 s"],
      ["1.6", "PID", h.pid, "a track of which nothing comes"],
      ["2.1", "Transport", h.transport, "marked as broken by a receiver before us"],
      ["2.2", "CRC", h.crc, "tables whose checksum is wrong"],
      ["2.3a", "PCR repetition", h.pcrRepetition, "the clock later than 100 ms"],
      ["2.3b", "PCR jump", h.pcrDiscontinuity, "the clock jumped without a word"],
      ["2.4", "PCR accuracy", h.pcrAccuracy, "the clock more than 500 ns beside its place"],
      ["2.5", "PTS", h.pts, "times of media later than 700 ms"],
      ["2.6", "CAT", h.cat, "scrambled, and nothing says how"],
    ] as const
  ).map(([number, name, count, means]) => ({ number, name, count, means }));
}

/** move puts an input of a list elsewhere. */
export function move<T>(list: T[], from: number, to: number): T[] {
  if (to < 0 || to >= list.length) return list;
  const out = [...list];
  out.splice(to, 0, ...out.splice(from, 1));
  return out;
}
