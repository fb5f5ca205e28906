import { expect, it } from "vitest";
import { filled } from "./history";

it("gives a young history the whole width, and an old one the longest span", () => {
  const spans = [60, 300, 900];
  const of = (seconds: number) => ({ bitrate: new Array<number>(seconds / 5).fill(1), every: 5000 });
  expect(filled(undefined, spans)).toBe(60);
  expect(filled(of(15), spans)).toBe(60);
  expect(filled(of(65), spans)).toBe(300);
  expect(filled(of(900), spans)).toBe(900);
  expect(filled(of(3600), spans)).toBe(900);
});
