import { describe, expect, it } from "vitest";
import { ago, bitrate, bytes, day, frames, kilobits, level, percent, span } from "./format";

describe("format", () => {
  it("writes bitrates in the unit that people use", () => {
    expect(bitrate(0)).toBe("–");
    expect(bitrate(64_400)).toBe("64 kbit/s");
    expect(bitrate(2_440_000)).toBe("2.44 Mbit/s");
    expect(bitrate(442_368_000)).toBe("442 Mbit/s");
  });
  it("writes how loud it is, and silence as such", () => {
    expect(level(undefined, "LUFS")).toBe("–");
    expect(level(-1820, "LUFS")).toBe("−18.2 LUFS");
    expect(level(-7000, "LUFS")).toBe("silence");
    expect(kilobits(1_199_600)).toBe("1200");
  });
  it("writes frame rates always as wide", () => {
    expect(frames(30_001)).toBe("30.00 fps");
    expect(frames(29_970)).toBe("29.97 fps");
    expect(frames(undefined)).toBe("–");
  });
  it("writes loads as per cent", () => expect(percent(853)).toBe("85 %"));
  it("writes spans in the largest unit that fits", () => {
    const now = Date.parse("2026-06-01T12:00:00Z");
    expect(ago("2026-06-01T11:59:18Z", now)).toBe("42 s");
    expect(ago("2026-06-01T09:30:00Z", now)).toBe("2 h 30 min");
    expect(ago("2026-06-01T12:00:09Z", now)).toBe("0 s");
  });
});

it("sizes and lengths are written in the unit that fits", () => {
  expect(bytes(999)).toBe("999 B");
  expect(bytes(1_234_567)).toBe("1.2 MB");
  expect(bytes(250_000_000_000)).toBe("250 GB");
  expect(span(59.6)).toBe("1 min");
  expect(span(61)).toBe("1 min 1 s");
  expect(span(7260)).toBe("2 h 1 min");
  expect(span(90_000)).toBe("1 d 1 h");
  const noon = Date.parse("2026-06-01T12:00:00Z");
  expect(day("2026-06-01T11:59:00Z", noon)).toBe("");
  expect(day("2026-05-30T11:59:00Z", noon)).not.toBe("");
});
