import { expect, it } from "vitest";
import { tracks } from "./words";

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
