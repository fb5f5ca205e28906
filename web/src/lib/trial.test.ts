import { describe, expect, it } from "vitest";
import { expected, grouped, hull, ladderDots } from "./trial";
import type { Point, Trial } from "./types";

const point = (height: number, bitrate: number, psnr: number, effort = 2): Point =>
  ({
    codec: "h264",
    width: height * 2,
    height,
    effort,
    asked: bitrate,
    bitrate,
    psnr,
    ssim: 9000,
    micros: 2000,
    load: 60,
  }) as Point;
const trial = (points: Point[], more: Partial<Trial> = {}): Trial =>
  ({ state: "done", begun: "", done: points.length, of: points.length, points, ...more }) as Trial;

describe("a trial", () => {
  const t = trial([point(480, 2_000_000, 4200), point(480, 500_000, 3800), point(240, 300_000, 3000)]);
  it("is a line for each size, by rising bitrate", () => {
    expect(grouped(t, (p) => p.bitrate / 1000)).toEqual([
      {
        label: "960×480",
        points: [
          [500, 38],
          [2000, 42],
        ],
      },
      { label: "480×240", points: [[300, 30]] },
    ]);
  });
  it("of a rung is a line for each effort", () => {
    const own = trial([point(480, 500_000, 3800, 1), point(480, 500_000, 3900, 5)], { rung: "480p" });
    expect(grouped(own, (p) => p.micros).map((g) => g.label)).toEqual(["effort 1", "effort 5"]);
  });
  it("tells how a rung would look", () => {
    expect(expected(t, { height: 480, bitrate: 1_000_000 })?.[1]).toBeCloseTo(40);
    expect(expected(t, { height: 480, bitrate: 100_000 })?.[1]).toBe(38);
    expect(expected(t, { height: 480, bitrate: 9_000_000 })?.[1]).toBe(42);
    expect(expected(t, { height: 720, bitrate: 1_000_000 })).toBeUndefined();
    const rungs = [
      { name: "a", on: true, height: 480, bitrate: 500_000 },
      { name: "s", on: true, source: true },
    ];
    expect(ladderDots(t, "now", rungs)).toEqual([
      { label: "now", dots: true, filled: false, points: [[500, 38]] },
    ]);
    expect(ladderDots(t, "now", [])).toEqual([]);
  });
  it("shows its hull", () => {
    expect(hull(t)).toEqual([]);
    const with_ = trial([], { hull: [{ width: 2, height: 2, bitrate: 300_000, quality: 3000 }] });
    expect(hull(with_)[0].points).toEqual([[300, 30]]);
  });
});
