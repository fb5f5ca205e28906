import { expect, test } from "vitest";
import { drawGraph } from "./graph";
import type { Status } from "./types";

const rendition = (name: string, kind: string) => ({
  name,
  kind,
  codec: kind === "video" ? "avc1.42c01f" : "mp4a.40.2",
  width: 854,
  height: 480,
  average: 1_200_000,
});

test("a row for each rendition: what passes through has no part in between", () => {
  const status = {
    feed: {
      tracks: [
        { kind: 1, codec: "h264", label: "H.264", width: 1280, height: 720 },
        { kind: 2, codec: "aac", label: "AAC", sampleRate: 48000 },
      ],
    },
    renditions: [rendition("source", "video"), rendition("480p", "video"), rendition("audio", "audio")],
    worker: {
      nodes: [
        { kind: "decode", micros: 4200, load: 126 },
        { kind: "scale", rendition: "480p", micros: 600, load: 18 },
        { kind: "encode", rendition: "480p", micros: 5100, load: 153 },
      ],
    },
  } as unknown as Status;
  const d = drawGraph(status);
  expect(d.boxes.map((b) => b.id)).toEqual([
    "source-video",
    "decode-video",
    "out-source",
    "out-480p",
    "encode-480p",
    "scale-480p",
    "source-audio",
    "out-audio",
  ]);
  expect(d.boxes.find((b) => b.id === "encode-480p")).toMatchObject({ text: "5.1 ms, 15 %", load: 153 });
  expect(d.lines.filter((l) => l.passes)).toHaveLength(2);
  expect(d.lines).toHaveLength(6);
  const bottom = Math.max(...d.boxes.map((b) => b.y + b.h));
  expect(d.height).toBe(bottom);
});

test("nothing is drawn of a channel that is silent", () => {
  expect(drawGraph({ renditions: [] } as unknown as Status).boxes).toEqual([]);
});
