import { describe, expect, it } from "vitest";
import { paceOf } from "./socket";
import { choices } from "./ways";
import { iceServers, patiently } from "./whep";

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

describe("a service that is busy", () => {
  const answers = (...list: [number, string?][]) => {
    let n = 0;
    return () => {
      const [status, after] = list[Math.min(n++, list.length - 1)];
      return Promise.resolve(new Response(null, { status, headers: after ? { "Retry-After": after } : {} }));
    };
  };
  it("is asked again, a few times", async () => {
    const pauses: number[] = [];
    const pause = (ms: number) => Promise.resolve(void pauses.push(ms));
    expect((await patiently(answers([503, "1"], [503, "2"], [201]), pause)).status).toBe(201);
    expect(pauses).toHaveLength(2);
    expect(pauses[1]).toBeGreaterThanOrEqual(1000);
    expect((await patiently(answers([503, "1"]), pause)).status).toBe(503);
    expect(pauses).toHaveLength(6);
    expect((await patiently(answers([503]), pause)).status).toBe(503);
    expect((await patiently(answers([503, "60"]), pause)).status).toBe(503);
    expect((await patiently(answers([401, "1"]), pause)).status).toBe(401);
    expect(pauses).toHaveLength(6);
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
