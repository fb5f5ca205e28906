import { expect, it } from "vitest";
import { nextRung } from "./ladder";

const source = { kind: 1, codec: "h264", codecName: "avc1.64001f", width: 1280, height: 720 };

it("offers the next useful size below the source", () => {
  expect(nextRung([], source).name).toBe("540p");
  expect(nextRung([{ name: "540p", on: true, height: 540 }], source).name).toBe("480p");
  expect(nextRung([], { ...source, height: 1080 }).name).toBe("720p");
  expect(nextRung([]).name).toBe("1080p"); // no source is known
});

it("never offers more than a small source has", () => {
  const r = nextRung([], { ...source, height: 120 });
  expect(r.height).toBeLessThanOrEqual(120);
  expect(nextRung([r], { ...source, height: 120 }).name).not.toBe(r.name);
});
