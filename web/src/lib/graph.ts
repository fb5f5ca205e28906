import { bitrate } from "./format";
import type { NodeStatus, RenditionStatus, Status } from "./types";

export interface Box {
  id: string;
  x: number;
  y: number;
  w: number;
  h: number;
  title: string;
  text: string;
  load?: number; // thousandths of a processor
}
export interface Line {
  x1: number;
  y1: number;
  x2: number;
  y2: number;
  passes: boolean; // nothing is done to it
}
export interface Drawing {
  width: number;
  height: number;
  boxes: Box[];
  lines: Line[];
}

// The parts that there may be between the source and a rendition. What is measured beside the way of the media has no
// box of its own.
const shared: [NodeStatus["kind"], string][] = [
  ["tone", "Tone map"],
  ["deinterlace", "Deinterlace"],
];
const step = 128; // from one column to the next
// What the first part of a codec's name in playlists stands for.
const names: Record<string, string> = {
  avc1: "H.264",
  hvc1: "HEVC",
  vp09: "VP9",
  av01: "AV1",
  mp4a: "AAC",
  opus: "Opus",
};
const size = { w: 112, h: 38 };
const rowHeight = 48;

/** drawGraph lays out the way of the media through the worker: a row for each rendition. */
export function drawGraph(status: Status): Drawing {
  const boxes: Box[] = [];
  const lines: Line[] = [];
  const tracks = status.feed?.tracks ?? [];
  const nodes = status.worker?.nodes ?? [];
  const find = (kind: NodeStatus["kind"], rendition?: string) =>
    nodes.find((n) => n.kind === kind && (!rendition || n.rendition === rendition));
  const takes = (n?: NodeStatus) =>
    n
      ? { text: `${(n.micros / 1000).toFixed(1)} ms, ${Math.round(n.load / 10)} %`, load: n.load }
      : { text: "" };
  // Columns stand only for what there is.
  const between = shared.filter(([kind]) => find(kind));
  const drawn = nodes.some((n) => n.kind === "draw");
  const columns = { source: 0, decode: step, scale: (2 + between.length) * step, draw: 0, encode: 0, out: 0 };
  columns.draw = columns.scale + step;
  columns.encode = columns.draw + (drawn ? step : 0);
  columns.out = columns.encode + step;
  const put = (id: string, x: number, y: number, title: string, what: { text: string; load?: number }) => {
    const b = { id, x, y, ...size, title, ...what };
    boxes.push(b);
    return b;
  };
  const join = (a: Box, b: Box, passes = false) =>
    lines.push({ x1: a.x + a.w, y1: a.y + a.h / 2, x2: b.x, y2: b.y + b.h / 2, passes });

  let y = 0;
  for (const kind of ["video", "audio"]) {
    const list = status.renditions.filter((r) => r.kind === kind && !r.retired);
    const track = tracks.find((t) => t.kind === (kind === "video" ? 1 : 2));
    if (!list.length || !track) continue;
    const middle = y + ((list.length - 1) * rowHeight) / 2;
    const source = put(`source-${kind}`, columns.source, middle, track.label ?? track.codec, {
      text: kind === "video" ? `${track.width}×${track.height}` : `${(track.sampleRate ?? 0) / 1000} kHz`,
    });
    const encoder = kind === "video" ? "encode" : "encode-sound";
    const coded = list.filter((r) => find(encoder, r.name));
    const node = find(kind === "video" ? "decode" : "decode-sound");
    let decoder: Box | undefined;
    if (coded.length && node) {
      const at = list.map((r, i) => (coded.includes(r) ? i : -1)).filter((i) => i >= 0);
      const row = at.reduce((a, b) => a + b, 0) / at.length;
      decoder = put(`decode-${kind}`, columns.decode, y + row * rowHeight, "Decode", takes(node));
      join(source, decoder);
      for (const [i, [part, title]] of kind === "video" ? between.entries() : []) {
        const next = put(
          `${part}-${kind}`,
          columns.decode + (i + 1) * step,
          decoder.y,
          title,
          takes(find(part)),
        );
        join(decoder, next);
        decoder = next;
      }
    }
    list.forEach((r, i) => row(r, y + i * rowHeight, source, decoder));
    y += list.length * rowHeight + 8;
  }
  return { width: columns.out + size.w, height: Math.max(0, y - 8 - (rowHeight - size.h)), boxes, lines };

  function row(r: RenditionStatus, at: number, source: Box, decoder?: Box) {
    const out = put(`out-${r.name}`, columns.out, at, r.name, { text: bitrate(r.average) });
    const code = find(r.kind === "video" ? "encode" : "encode-sound", r.name);
    if (!code || !decoder) {
      join(source, out, true);
      return;
    }
    const encode = put(
      `encode-${r.name}`,
      columns.encode,
      at,
      `Encode ${names[r.codec.split(".")[0]] ?? r.codec}`,
      takes(code),
    );
    const scaled = find("scale", r.name);
    if (scaled) {
      const scale = put(`scale-${r.name}`, columns.scale, at, `Scale ${r.width}×${r.height}`, takes(scaled));
      join(decoder, scale);
      const over = find("draw", r.name);
      if (over) {
        const draw = put(`draw-${r.name}`, columns.draw, at, "Draw upon it", takes(over));
        join(scale, draw);
        join(draw, encode);
      } else join(scale, encode);
    } else {
      join(decoder, encode);
    }
    join(encode, out);
  }
}
