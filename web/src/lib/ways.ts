/** Ways to play a channel: a protocol, and the player that speaks it. */
export type Way = "webrtc" | "ll-hls" | "hls" | "ll-dash" | "dash" | "ts" | "native";

export interface WayInfo {
  way: Way;
  name: string;
  player: string;
  file: string; // of the channel's address; a selection takes the place of "index"; "" for what has an address of its own
  says: string;
}

export const ways: WayInfo[] = [
  {
    way: "webrtc",
    name: "WebRTC",
    player: "the browser’s own (WHEP)",
    file: "",
    says: "A fraction of a second behind",
  },
  {
    way: "ll-hls",
    name: "Low-latency HLS",
    player: "hls.js",
    file: "index.m3u8",
    says: "Parts, about a second behind",
  },
  { way: "hls", name: "HLS", player: "hls.js", file: "index.m3u8", says: "Whole segments, for any line" },
  {
    way: "ll-dash",
    name: "Low-latency DASH",
    player: "dash.js",
    file: "low.mpd",
    says: "Segments while they are made",
  },
  { way: "dash", name: "DASH", player: "dash.js", file: "index.mpd", says: "Whole segments, for any line" },
  { way: "ts", name: "HLS, transport streams", player: "hls.js", file: "ts.m3u8", says: "For old receivers" },
  { way: "native", name: "HLS", player: "the browser’s own", file: "index.m3u8", says: "Without any script" },
];

export function wayOf(text: string | null | undefined): Way {
  return ways.some((w) => w.way === text) ? (text as Way) : "ll-hls";
}

/** address of a channel's playlist or manifest, for a way and a selection of rungs. */
export function address(slug: string, way: Way, selection = ""): string {
  if (way === "webrtc") return `/whep/${slug}`;
  const file = ways.find((w) => w.way === way)!.file;
  if (!selection || way === "ts") return `/media/${slug}/${file}`;
  return `/media/${slug}/${file === "low.mpd" ? `${selection}-low.mpd` : file.replace("index", selection)}`;
}
