/** filled returns the shortest of some spans, in seconds, that holds all of a history, or the last of them. */
export function filled(h: { bitrate: number[]; every: number } | undefined, spans: number[]): number {
  const has = h ? (h.bitrate.length * h.every) / 1000 : 0;
  return spans.find((s) => has <= s) ?? spans[spans.length - 1];
}
