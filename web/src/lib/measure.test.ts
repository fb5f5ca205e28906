import { expect, test } from "vitest";
import { paceFor } from "./engine";
import { delayOf, readNumber, spread } from "./measure";
import { address, wayOf } from "./ways";

test("a picture's number is read from its cells", () => {
  const cells = (n: number, parity: number) => [
    200,
    20,
    ...[...Array(12).keys()].map((i) => (n & (1 << (11 - i)) ? 190 : 30)),
    parity ? 190 : 30,
    200,
  ];
  expect(readNumber(cells(5, 0))).toBe(5);
  expect(readNumber(cells(7, 1))).toBe(7);
  expect(readNumber(cells(7, 0))).toBeUndefined();
  expect(readNumber(Array(16).fill(100))).toBeUndefined();
});

test("the delay is counted from when the camera sent the picture", () => {
  const c = { began: 1000, length: 8000, sent: [0, 33, 67] };
  expect(delayOf(1, 1000 + 33 + 800, c)).toBe(800);
  expect(delayOf(2, 1000 + 3 * 8000 + 67 + 900, c)).toBe(900);
  expect(delayOf(2, 1000 + 8000 + 20, c)).toBe(7953); // of the turn before
  expect(delayOf(9, 5000, c)).toBeUndefined();
});

test("the spread of a measurement", () => {
  expect(spread([5, 1, 3, 2, 4])).toEqual({ median: 3, p95: 5, count: 5 });
  expect(spread([]).median).toBeNaN();
});

test("a late player goes faster while it has enough in hand", () => {
  expect(paceFor(0.3, 0.5)).toBeCloseTo(1.085);
  expect(paceFor(3, 2)).toBe(1.1);
  expect(paceFor(0.3, 0.2)).toBe(1);
  expect(paceFor(0, 0.1)).toBe(0.95);
  expect(paceFor(-0.3, 0.5)).toBe(0.97);
  expect(paceFor(0.05, 0.5)).toBe(1);
  expect(paceFor(0.05, 0.5, 1.05)).toBeCloseTo(1.0225);
});

test("each way has its address", () => {
  expect(wayOf("nonsense")).toBe("ll-hls");
  expect(address("booth", "ll-dash")).toBe("/media/booth/low.mpd");
  expect(address("booth", "ll-dash", "radio")).toBe("/media/booth/radio-low.mpd");
  expect(address("booth", "hls", "radio")).toBe("/media/booth/radio.m3u8");
  expect(address("booth", "ts", "radio")).toBe("/media/booth/ts.m3u8");
});
