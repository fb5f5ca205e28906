import type { Rung, Track } from "./types";

const heights = [1080, 720, 540, 480, 360, 240, 144];

/** nextRung proposes a rung of the next useful size: below the source, and none that is there already. */
export function nextRung(rungs: Rung[], source?: Pick<Track, "width" | "height">): Rung {
  const most = source?.height ?? 1081;
  const taken = (h: number) => rungs.some((r) => r.height === h || r.name === `${h}p`);
  let height = heights.find((h) => h < most && !taken(h));
  for (let h = Math.min(most, 240) & ~1; !height && h > 16; h -= 16) if (!taken(h)) height = h;
  height ??= 16;
  return {
    name: `${height}p`,
    on: true,
    height,
    bitrate: Math.max(100_000, Math.round((height * height * 5) / 50_000) * 50_000),
    effort: 2,
  };
}
