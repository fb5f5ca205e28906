import type { Outputs, Packaging } from "./types";

/** What an encoder, the network and a browser's decoder take, in milliseconds. */
const pipeline = 150;

/** delays tells how far behind the camera viewers will be, in milliseconds. */
export function delays(s: Pick<Packaging, "segmentMillis" | "partMillis">) {
  return {
    low: 3 * s.partMillis * 1.07 + pipeline, // three part targets, which are a little longer than asked for
    whole: 3 * s.segmentMillis + pipeline + 500,
  };
}

const seconds = (ms: number) => `${(ms / 1000).toFixed(ms < 9950 ? 1 : 0)} s`;

/** consequences says in words what packaging settings mean. */
export function consequences(s: Pick<Packaging, "segmentMillis" | "partMillis" | "window">): string[] {
  const d = delays(s);
  const requests = Math.round((4 * 1000) / s.partMillis); // playlist and part, of picture and sound
  const out = [
    `Viewers of low-latency players will be about ${seconds(d.low)} behind, others about ${seconds(d.whole)}.`,
    `They can go back ${seconds(s.segmentMillis * s.window)}.`,
    `Each low-latency viewer makes about ${requests} requests per second: playlists and parts, of video and audio.`,
  ];
  if (s.partMillis > s.segmentMillis) out.push("A part cannot be longer than a segment.");
  if (s.segmentMillis < 1000)
    out.push("Such short segments need a keyframe each, which costs picture quality.");
  if (s.segmentMillis % s.partMillis) out.push("The last part of each segment is shorter than the others.");
  return out;
}

/** readSelections reads "phones=360p+240p, radio=sound". */
export function readSelections(text: string): NonNullable<Outputs["selections"]> {
  return text
    .split(",")
    .map((t) => t.trim())
    .filter(Boolean)
    .map((t) => {
      const [name, rungs = ""] = t.split("=").map((v) => v.trim());
      return rungs === "sound"
        ? { name, soundOnly: true }
        : { name, rungs: rungs.split("+").map((r) => r.trim()) };
    });
}

export function writeSelections(list: Outputs["selections"]): string {
  return (list ?? []).map((s) => `${s.name}=${s.soundOnly ? "sound" : (s.rungs ?? []).join("+")}`).join(", ");
}
