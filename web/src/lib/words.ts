import type { Track } from "./types";

/** What is shown of a track. */
type Shown = Omit<Track, "config" | "timescale">;

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
