import type { Codec, Rung } from "./types";

/** A setting of a rung, as the form shows it. */
export interface Field {
  path: string[]; // of names in the rung
  label: string;
  kind: "number" | "text" | "choice" | "check" | "image";
  unit?: number; // of what is shown, in those of the setting
  empty?: string; // shown for a setting that is left out
  choices?: [string, string][];
}

/** What pictures can be encoded in; none is the usual one. */
export const codecs: [string, string][] = [
  ["", "H.264"],
  ["hevc", "HEVC"],
  ["vp9", "VP9"],
  ["av1", "AV1"],
];

const number = (path: string, label: string, empty: string, unit = 1): Field => ({
  path: path.split("."),
  label,
  kind: "number",
  unit,
  empty,
});
const choice = (path: string, label: string, choices: [string, string][]): Field => ({
  path: path.split("."),
  label,
  kind: "choice",
  choices,
});

/** The settings of a rung of pictures beside those in its row, in groups. */
export const pictureGroups: { title: string; fields: Field[] }[] = [
  {
    title: "Rate",
    fields: [
      number("peak", "Peak kbit/s", "1.2 ×", 1000),
      number("buffer", "Buffer ms", "1000"),
      number("quality", "Constant quality 1–100", "by bitrate"),
    ],
  },
  {
    title: "Coding",
    fields: [
      { path: ["ready"], label: "Take the sender’s own of this size", kind: "check" },
      { path: ["profile"], label: "Profile", kind: "text", empty: "best" },
      { path: ["level"], label: "Level", kind: "text", empty: "lowest" },
      choice("bFrames", "B-frames", [
        ["", "as the effort says"],
        ["-1", "none"],
        ["1", "1"],
        ["2", "2"],
        ["3", "3"],
        ["4", "4"],
      ]),
      choice("content", "Content", [
        ["", "camera"],
        ["screen", "screen"],
        ["drawn", "drawn"],
      ]),
    ],
  },
  {
    title: "Picture",
    fields: [
      number("picture.crop.left", "Crop left", "0"),
      number("picture.crop.right", "Crop right", "0"),
      number("picture.crop.top", "Crop top", "0"),
      number("picture.crop.bottom", "Crop bottom", "0"),
      choice("picture.rotate", "Turn", [
        ["", "no"],
        ["90", "90° clockwise"],
        ["180", "180°"],
        ["270", "270°"],
      ]),
      choice("picture.filter", "Scaling", [
        ["", "usual"],
        ["nearest", "nearest"],
        ["bilinear", "bilinear"],
        ["box", "box"],
      ]),
      { path: ["picture", "pad"], label: "Black bars to width × height", kind: "check" },
    ],
  },
  {
    title: "Drawn upon it",
    fields: [
      { path: ["picture", "label"], label: "The rung’s name", kind: "check" },
      choice("picture.clock", "Clock and number", [
        ["", "no"],
        ["top", "at the top"],
        ["bottom", "at the bottom"],
      ]),
      { path: ["picture", "logo", "image"], label: "Logo", kind: "image", empty: "none" },
      choice("picture.logo.place", "Logo’s place", [
        ["", "top right"],
        ["top-left", "top left"],
        ["bottom-left", "bottom left"],
        ["bottom-right", "bottom right"],
        ["centre", "centre"],
      ]),
      number("picture.logo.opacity", "Logo’s opacity %", "100"),
      number("picture.logo.width", "Logo’s width %", "10"),
    ],
  },
];

/** The settings of a rung's sound beside its bitrate. */
export const soundGroup: { title: string; fields: Field[] } = {
  title: "Sound",
  fields: [
    choice("audioCodec", "Codec", [
      ["", "AAC"],
      ["opus", "Opus"],
    ]),
    choice("audioChannels", "Channels", [
      ["", "as they are"],
      ["1", "mono"],
      ["2", "stereo"],
    ]),
    choice("audioRate", "Sample rate", [
      ["", "as they are"],
      ["48000", "48 kHz"],
      ["44100", "44.1 kHz"],
      ["32000", "32 kHz"],
      ["24000", "24 kHz"],
    ]),
    number("loudness", "Loudness LUFS", "as it is"),
    number("audioTrack", "Track of the source", "main"),
    { path: ["audioLanguage"], label: "Language", kind: "text", empty: "as sent" },
  ],
};

type Tree = Record<string, unknown>;

/** get reads a setting. */
export function get(r: Rung, path: string[]): unknown {
  let at: unknown = r;
  for (const name of path) at = (at as Tree | undefined)?.[name];
  return at;
}

/** set changes a setting; undefined takes it out, with what it leaves empty. */
export function set(r: Rung, path: string[], value: unknown) {
  const [name, ...rest] = path;
  const tree = r as unknown as Tree;
  if (!rest.length) {
    if (value === undefined) delete tree[name];
    else tree[name] = value;
    return;
  }
  tree[name] ??= {};
  set(tree[name] as Rung, rest, value);
  if (!Object.keys(tree[name] as Tree).length) delete tree[name];
}

/** others counts the settings that a rung's row does not show. */
export function others(r: Rung): number {
  const fields = [...(r.source || soundOnly(r) ? [] : pictureGroups), soundGroup].flatMap((g) => g.fields);
  return fields.filter((f) => get(r, f.path)).length;
}

/** soundOnly tells whether a rung has no pictures. */
export const soundOnly = (r: Rung) =>
  !r.source && !r.width && !r.height && !r.bitrate && (r.audioBitrate ?? 0) > 0;

export const codecLabel = (c?: Codec) => codecs.find(([id]) => id === (c ?? ""))?.[1] ?? c ?? "";
