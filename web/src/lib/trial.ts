import type { Point, Rung, Trial } from "./types";

/** A line or a row of dots in a chart. */
export interface Group {
  label: string;
  points: [number, number][]; // by rising x
  dots?: boolean; // no line
  dashed?: boolean;
  filled?: boolean; // of dots
}

const sorted = (list: [number, number][]) => [...list].sort((a, b) => a[0] - b[0]);

/** grouped puts the points of a trial into lines: one an effort of a rung, one a size of a ladder. */
export function grouped(t: Trial, x: (p: Point) => number): Group[] {
  const by = new Map<string, [number, number][]>();
  for (const p of t.points) {
    const label = t.rung ? `effort ${p.effort}` : `${p.width}×${p.height}`;
    by.set(label, [...(by.get(label) ?? []), [x(p), p.psnr / 100]]);
  }
  return [...by].map(([label, points]) => ({ label, points: sorted(points) }));
}

/** hull is what is worth its bits, as a line. */
export function hull(t: Trial): Group[] {
  if (!t.hull?.length) return [];
  return [
    { label: "worth its bits", dashed: true, points: t.hull.map((m) => [m.bitrate / 1000, m.quality / 100]) },
  ];
}

/** expected tells how a rung would look by what was measured of its size, undefined when nothing was. */
export function expected(
  t: Trial,
  rung: Pick<Rung, "bitrate" | "width" | "height">,
): [number, number] | undefined {
  const own = t.points
    .filter((p) => (rung.height ? p.height === rung.height : p.width === rung.width))
    .sort((a, b) => a.bitrate - b.bitrate);
  const bits = rung.bitrate ?? 0;
  if (!own.length || !bits) return undefined;
  const above = own.findIndex((p) => p.bitrate >= bits);
  if (above === 0) return [bits / 1000, own[0].psnr / 100];
  if (above < 0) return [bits / 1000, own[own.length - 1].psnr / 100];
  const [a, b] = [own[above - 1], own[above]];
  const part = Math.log(bits / a.bitrate) / Math.log(b.bitrate / a.bitrate);
  return [bits / 1000, (a.psnr + (b.psnr - a.psnr) * part) / 100];
}

/** ladderDots shows where the rungs of a ladder lie among what was measured. */
export function ladderDots(t: Trial, label: string, rungs: Rung[], filled = false): Group[] {
  const points = rungs
    .filter((r) => r.on && !r.source)
    .map((r) => expected(t, r))
    .filter((p) => p !== undefined);
  return points.length ? [{ label, dots: true, filled, points: sorted(points) }] : [];
}
