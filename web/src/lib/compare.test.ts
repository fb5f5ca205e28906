import { describe, expect, it } from "vitest";
import { pair } from "./compare.svelte";
import { readPlaylist } from "./mediaplaylist";

const at = (...times: number[]) => times.map((time) => ({ time }));

describe("pairs of pictures", () => {
  it("are the newest of one time", () => {
    expect(pair(at(1, 1.04, 1.08), at(1.04, 1.08001, 1.12), 0.02)).toEqual([2, 1]);
    expect(pair(at(1, 1.04), at(1.02), 0.02)).toBeUndefined();
    expect(pair([], at(1), 0.02)).toBeUndefined();
  });
  it("may lie apart when one side has half the pictures", () => {
    expect(pair(at(1, 1.04, 1.08), at(0.96, 1.04), 0.02)).toEqual([1, 1]);
  });
});

describe("media playlists", () => {
  it("give segments their numbers, addresses and headers", () => {
    const list = readPlaylist(
      '#EXTM3U\n#EXT-X-MEDIA-SEQUENCE:7\n#EXT-X-MAP:URI="h1.mp4"\n#EXTINF:2,\na.m4s\n#EXT-X-PART:URI="x"\n#EXT-X-GAP\n#EXTINF:2,\nb.m4s\n#EXT-X-MAP:URI="h2.mp4"\n#EXTINF:2,\n../c.m4s\n',
      "http://o/media/line/480p/index.m3u8",
    );
    expect(list).toEqual([
      {
        number: 7,
        url: "http://o/media/line/480p/a.m4s",
        map: "http://o/media/line/480p/h1.mp4",
        gap: false,
      },
      { number: 8, url: "http://o/media/line/480p/b.m4s", map: "http://o/media/line/480p/h1.mp4", gap: true },
      { number: 9, url: "http://o/media/line/c.m4s", map: "http://o/media/line/480p/h2.mp4", gap: false },
    ]);
  });
});
