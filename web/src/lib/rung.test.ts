import { describe, expect, it } from "vitest";
import { get, others, pictureGroups, set, soundOnly } from "./rung";
import type { Rung } from "./types";

describe("a rung's settings", () => {
  it("lie in groups, which go with their last setting", () => {
    const r: Rung = { name: "a", on: true, height: 360, bitrate: 1 };
    set(r, ["picture", "crop", "left"], 20);
    set(r, ["picture", "label"], true);
    expect(r.picture).toEqual({ crop: { left: 20 }, label: true });
    expect(get(r, ["picture", "crop", "left"])).toBe(20);
    expect(others(r)).toBe(2);
    set(r, ["picture", "crop", "left"], undefined);
    expect(r.picture).toEqual({ label: true });
    set(r, ["picture", "label"], undefined);
    expect(r).toEqual({ name: "a", on: true, height: 360, bitrate: 1 });
  });
  it("of the source and of sound alone have no pictures", () => {
    const r: Rung = { name: "s", on: true, audioBitrate: 64_000, loudness: -23 };
    expect(soundOnly(r)).toBe(true);
    expect(others(r)).toBe(1);
    expect(soundOnly({ name: "source", on: true, source: true, audioBitrate: 1 })).toBe(false);
  });
  it("are each there once", () => {
    const paths = pictureGroups.flatMap((g) => g.fields.map((f) => f.path.join(".")));
    expect(new Set(paths).size).toBe(paths.length);
  });
});
