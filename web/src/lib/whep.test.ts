import { describe, expect, it } from "vitest";
import { paceOf } from "./socket";
import { choices } from "./ways";
import { iceServers } from "./whep";

describe("ICE servers", () => {
  it("are read from Link headers", () => {
    const headers = new Headers();
    headers.append("Link", '<stun:192.0.2.1:3478>; rel="ice-server"');
    headers.append(
      "Link",
      '<turn:192.0.2.1:3478?transport=udp>; rel="ice-server"; username="boat"; credential="secret"; credential-type="password"',
    );
    headers.append("Link", '<https://example.org/>; rel="next"');
    expect(iceServers(new Response(null, { headers }))).toEqual([
      { urls: "stun:192.0.2.1:3478", username: undefined, credential: undefined },
      { urls: "turn:192.0.2.1:3478?transport=udp", username: "boat", credential: "secret" },
    ]);
    expect(iceServers(new Response(null))).toEqual([]);
  });
});

describe("the pace of ways of little delay", () => {
  it("catches up, holds, and waits", () => {
    expect(paceOf(0, 1)).toBe(1);
    expect(paceOf(0.05, 1)).toBe(1);
    expect(paceOf(0.2, 1)).toBeCloseTo(1.12);
    expect(paceOf(0.02, 1.05)).toBeGreaterThan(1);
    expect(paceOf(-0.1, 1)).toBe(0.95);
  });
});

describe("the ways to try", () => {
  it("are one when it is asked for, and those of the browser else", () => {
    expect(choices("", "pier", "dash").map((c) => c.url)).toEqual(["/media/pier/index.mpd"]);
    expect(choices("https://h", "pier", "webrtc")).toEqual([{ way: "webrtc", url: "https://h/whep/pier" }]);
    expect(choices("", "", "auto")).toEqual([]);
    expect(choices("", "pier", "auto").map((c) => c.way)).toEqual(["native"]); // without media sources
    Object.assign(globalThis, { MediaSource: class {} });
    expect(choices("", "pier", "auto").map((c) => c.way)).toEqual(["websocket", "ll-hls"]);
    Object.assign(globalThis, { WebTransport: class {} });
    expect(choices("", "pier", "auto").map((c) => c.way)).toEqual(["webtransport", "websocket", "ll-hls"]);
    expect(choices("", "pier", "auto", "phones").map((c) => c.url)).toEqual(["/media/pier/phones.m3u8"]);
  });
});
