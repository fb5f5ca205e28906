import type { Track } from "./types";

/** tracks says what a feed carries. */
export function tracks(list: Track[]): string {
  if (list.length === 0) return "not known yet";
  return list
    .map((t) =>
      t.kind === 1
        ? `H.264 ${t.width}×${t.height}`
        : `AAC ${(t.sampleRate ?? 0) / 1000} kHz ${t.channels === 1 ? "mono" : t.channels === 2 ? "stereo" : `${t.channels} ch`}`,
    )
    .join(", ");
}
