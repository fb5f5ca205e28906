/** A segment as a media playlist names it. */
export interface Segment {
  number: number; // media sequence number
  url: string;
  map: string; // of its header
  gap: boolean;
}

/** readPlaylist reads what is needed of a media playlist to fetch its whole segments (RFC 8216). */
export function readPlaylist(text: string, base: string): Segment[] {
  const out: Segment[] = [];
  let number = 0;
  let map = "";
  let gap = false;
  for (const line of text.split("\n")) {
    if (line.startsWith("#EXT-X-MEDIA-SEQUENCE:")) number = Number(line.split(":")[1]);
    else if (line.startsWith("#EXT-X-MAP:")) map = new URL(/URI="([^"]*)"/.exec(line)?.[1] ?? "", base).href;
    else if (line === "#EXT-X-GAP") gap = true;
    else if (line && !line.startsWith("#")) {
      out.push({ number: number++, url: new URL(line, base).href, map, gap });
      gap = false;
    }
  }
  return out;
}
