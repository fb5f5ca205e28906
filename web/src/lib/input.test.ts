import { describe, expect, it } from "vitest";
import { arrival, bare, checks, inputName, inputState, move, programmeTracks, same } from "./input";
import type { InputStatus, Status, StreamHealth } from "./types";

describe("inputs", () => {
  it("are named as people call them", () => {
    expect(inputName({ kind: "sender" })).toBe("senders");
    expect(inputName({ kind: "sender", name: "backup" })).toBe("senders, backup");
    expect(inputName({ kind: "address", address: "udp://239.1.1.1:5000", programme: "2" })).toBe(
      "udp://239.1.1.1:5000, programme 2",
    );
    expect(inputName({ kind: "programme", channel: "truck", programme: "Harbour" })).toBe(
      "programme Harbour of truck",
    );
  });
  it("say how they are", () => {
    expect(inputState({ kind: "sender", onAir: true } as InputStatus)).toBe("on air");
    expect(inputState({ kind: "sender", onAir: false, standby: 1, problem: "x" } as InputStatus)).toBe(
      "stands by",
    );
    expect(inputState({ kind: "address", onAir: false, problem: "nothing came" } as InputStatus)).toBe(
      "nothing came",
    );
    expect(inputState({ kind: "address", onAir: false, onDemand: true } as InputStatus)).toBe(
      "waits for viewers",
    );
  });
  it("are the same whatever their secrets", () => {
    expect(same({ kind: "address", address: "a", secret: "(kept)" }, { kind: "address", address: "a" })).toBe(
      true,
    );
    expect(same({ kind: "sender" }, { kind: "sender", name: "backup" })).toBe(false);
    expect(bare({ kind: "sender", onAir: true } as InputStatus)).not.toHaveProperty("onAir");
  });
  it("change places", () => {
    expect(move([1, 2, 3], 2, 0)).toEqual([3, 1, 2]);
    expect(move([1, 2], 0, -1)).toEqual([1, 2]);
  });
});

it("measure their arrival", () => {
  const status = {
    feed: { gapMillis: 40, keyMillis: 2000 },
    inputs: [
      { kind: "sender", onAir: false },
      {
        kind: "sender",
        onAir: true,
        line: { srt: { rtt: 900, lost: 3 }, ts: { jitter: 70, continuity: 9 } },
      },
    ],
  } as unknown as Status;
  expect(arrival(status)).toEqual({
    now: { gap: 40, keyframes: 2000, apart: 0, rtt: 900, jitter: 70 },
    lost: 3,
  });
  expect(arrival({ inputs: [] } as unknown as Status)).toEqual({ now: {}, lost: undefined });
});

describe("transport streams", () => {
  it("show what a programme carries", () => {
    expect(
      programmeTracks({
        number: 1,
        tracks: [
          { pid: 1, type: 27, label: "H.264" },
          { pid: 2, type: 3, label: "MP2", language: "deu" },
        ],
      }),
    ).toBe("H.264, MP2 (deu)");
    expect(programmeTracks({ number: 1, tracks: [] })).toBe("not known yet");
  });
  it("have every check of the first two priorities", () => {
    const list = checks({ continuity: 4 } as StreamHealth);
    expect(list).toHaveLength(13);
    expect(list.find((c) => c.number === "1.4")?.count).toBe(4);
  });
});
