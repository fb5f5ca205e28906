/** Ways to play a channel: a protocol, and the player that speaks it. */
export type Way =
  "webrtc" | "websocket" | "webtransport" | "ll-hls" | "hls" | "ll-dash" | "dash" | "ts" | "native";

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
    way: "websocket",
    name: "WebSocket",
    player: "our own player",
    file: "",
    says: "A fraction of a second behind, without UDP",
  },
  {
    way: "webtransport",
    name: "WebTransport",
    player: "our own player",
    file: "",
    says: "The same over HTTP/3",
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
  if (way === "websocket" || way === "webtransport") return `/socket/${slug}`;
  if (way === "webrtc") return `/whep/${slug}`;
  const file = ways.find((w) => w.way === way)!.file;
  if (!selection || way === "ts") return `/media/${slug}/${file}`;
  return `/media/${slug}/${file === "low.mpd" ? `${selection}-low.mpd` : file.replace("index", selection)}`;
}

/** A way to try, and its address. */
export interface Choice {
  way: Way;
  url: string;
}

/** choices lists the ways to try, the best first: the one that is asked for, or of "auto" what this browser can do. */
export function choices(server: string, slug: string, way: string, selection = ""): Choice[] {
  if (!slug) return [];
  const list: Way[] = [];
  if (way !== "auto") list.push(wayOf(way));
  else if (!("MediaSource" in globalThis) && !("ManagedMediaSource" in globalThis)) list.push("native");
  else {
    if (!selection) {
      if ("WebTransport" in globalThis) list.push("webtransport");
      list.push("websocket");
    }
    list.push("ll-hls");
  }
  return list.map((w) => ({ way: w, url: server + address(slug, w, selection) }));
}
