import type { Input, InputStatus, Track } from "./types";

/** What is shown of a track. */
type Shown = Omit<Track, "config" | "timescale">;

/** inputName is what people call an input. */
export function inputName(i: Input): string {
  return i.kind === "file" ? `file ${i.file}` : "senders";
}

/** inputState says how an input is. */
export function inputState(i: InputStatus): string {
  if (i.onAir) return "on air";
  if (i.problem) return i.problem;
  return i.standby ? "stands by" : "waits";
}

/** standby is the recording that plays while nobody sends. */
export function standby(list: Input[] | undefined): string {
  return list?.find((i) => i.kind === "file")?.file ?? "";
}

/** withStandby puts a recording behind the senders, or takes it away; other inputs stay. */
export function withStandby(list: Input[] | undefined, file: string): Input[] {
  const before = list?.length ? list : [{ kind: "sender" as const }];
  const at = before.findIndex((i) => i.kind === "file");
  if (at < 0) return file ? [...before, { kind: "file", file }] : before;
  return before.flatMap((i, n) => (n !== at ? [i] : file ? [{ kind: "file" as const, file }] : []));
}

const label = (t: Shown) => t.label || t.codec.toUpperCase();

const about = (t: Shown) => {
  const said = [t.name, t.language].filter(Boolean).join(", ");
  return said && ` (${said})`;
};

/** track says what one track is. */
export function track(t: Shown): string {
  if (t.kind === 3) return t.name ? `${label(t)} ${t.name}` : label(t);
  if (t.kind === 1) return `${label(t)} ${t.width}×${t.height}`;
  const channels = t.channels === 1 ? "mono" : t.channels === 2 ? "stereo" : `${t.channels} ch`;
  return `${label(t)} ${(t.sampleRate ?? 0) / 1000} kHz ${channels}${about(t)}`;
}

/** tracks says what a feed carries. */
export function tracks(list: Shown[]): string {
  return list.length === 0 ? "not known yet" : list.map(track).join(", ");
}
