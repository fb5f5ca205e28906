import { expect, test } from "vitest";
import { consequences, readSelections, writeSelections } from "./packaging";

test("settings are put in words", () => {
  const words = consequences({ segmentMillis: 2000, partMillis: 200, window: 6 });
  expect(words[0]).toBe("Viewers of low-latency players will be about 0.8 s behind, others about 6.7 s.");
  expect(words[1]).toBe("They can go back 12 s.");
  expect(words[2]).toContain("about 20 requests per second");
  expect(words).toHaveLength(3);
  expect(consequences({ segmentMillis: 500, partMillis: 300, window: 6 })).toHaveLength(5);
});

test("selections are written as they are read", () => {
  const list = [
    { name: "phones", rungs: ["360p", "240p"] },
    { name: "radio", soundOnly: true },
  ];
  expect(writeSelections(list)).toBe("phones=360p+240p, radio=sound");
  expect(readSelections(writeSelections(list))).toEqual(list);
  expect(readSelections("")).toEqual([]);
});
