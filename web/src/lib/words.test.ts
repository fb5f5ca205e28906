import { expect, it } from "vitest";
import { inputName, inputState, standby, tracks, withStandby } from "./words";

it("says what a feed carries", () => {
  expect(tracks([])).toBe("not known yet");
  expect(
    tracks([
      { kind: 1, codec: "h264", label: "H.264", codecName: "avc1.64001f", width: 1280, height: 720 },
      { kind: 2, codec: "aac", codecName: "mp4a.40.2", sampleRate: 44100, channels: 1 },
      {
        kind: 2,
        codec: "opus",
        label: "Opus",
        codecName: "opus",
        sampleRate: 48000,
        channels: 2,
        language: "fr",
        name: "Français",
      },
    ]),
  ).toBe("H.264 1280×720, AAC 44.1 kHz mono, Opus 48 kHz stereo (Français, fr)");
});

it("says which input is on air", () => {
  const list = [
    { kind: "sender" as const, onAir: false },
    { kind: "file" as const, file: "standby.flv", onAir: true },
    { kind: "file" as const, file: "gone.flv", onAir: false, problem: "there is no file gone.flv" },
  ];
  expect(list.map((i) => `${inputName(i)}: ${inputState(i)}`)).toEqual([
    "senders: waits",
    "file standby.flv: on air",
    "file gone.flv: there is no file gone.flv",
  ]);
  expect(inputState({ kind: "sender", onAir: false, standby: 1 })).toBe("stands by");
  expect(standby(list)).toBe("standby.flv");
  expect(standby(undefined)).toBe("");
  expect(withStandby(undefined, "a.flv")).toEqual([{ kind: "sender" }, { kind: "file", file: "a.flv" }]);
  expect(withStandby([{ kind: "file", file: "a.flv" }, { kind: "sender" }], "b.flv")).toEqual([
    { kind: "file", file: "b.flv" },
    { kind: "sender" },
  ]);
  expect(withStandby([{ kind: "sender" }, { kind: "file", file: "a.flv" }], "")).toEqual([
    { kind: "sender" },
  ]);
});
