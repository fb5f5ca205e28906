import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { live } from "./live.svelte";
import type { Event as Told } from "./types";

/** Source stands in for the browser's EventSource. */
class Source {
  static last: Source;
  static CLOSED = 2;
  readyState = 0;
  onopen?: () => void;
  onerror?: () => void;
  closed = false;
  #listeners: Record<string, (e: { data: string }) => void> = {};
  constructor(readonly url: string) {
    Source.last = this;
  }
  addEventListener(kind: string, f: (e: { data: string }) => void) {
    this.#listeners[kind] = f;
  }
  say(kind: string, body: unknown) {
    this.#listeners[kind]({ data: JSON.stringify(body) });
  }
  close() {
    this.closed = true;
  }
}

const event = (id: number): Told => ({
  id,
  at: "2026-06-01T12:00:00Z",
  level: "info",
  kind: "k",
  text: `${id}`,
});
const channel = (load: number) => ({ slug: "start-line", worker: { load }, feed: { bitrate: 5 } });

const page = new EventTarget();
beforeEach(() => {
  vi.stubGlobal("EventSource", Source);
  vi.stubGlobal("addEventListener", page.addEventListener.bind(page));
});
afterEach(() => {
  live.stop();
  vi.unstubAllGlobals();
});

it("takes status and events as they come", () => {
  live.start([event(1)], () => {});
  expect(live.known).toBe(false);
  Source.last.say("status", [channel(250)]);
  expect(live.known).toBe(true);
  expect(live.channel("start-line")?.worker?.load).toBe(250);
  Source.last.say("event", event(2));
  Source.last.say("event", event(2)); // told again after a reconnect
  expect(live.events.map((e) => e.id)).toEqual([2, 1]);
});

it("goes on with the hour that the service kept", async () => {
  vi.useFakeTimers({ now: 10_000_000 });
  const hour = { every: 5000, until: 9_999_000, bitrate: [7], load: [1], viewers: [0] };
  vi.stubGlobal("fetch", async () => ({ ok: true, status: 200, json: async () => hour }));
  live.start([], () => {});
  await live.want("start-line");
  for (let i = 0; i < 10; i++) {
    vi.advanceTimersByTime(1000);
    Source.last.say("status", [channel(i)]);
  }
  expect(live.history["start-line"].bitrate).toEqual([7, 5, 5]);
  vi.useRealTimers();
});

it("merges an event that happens again, and keeps what is wrong with the service", () => {
  live.start([event(2), event(1)], () => {});
  Source.last.say("event", { ...event(1), count: 40 });
  expect(live.events.map((e) => [e.id, e.count])).toEqual([
    [2, undefined],
    [1, 40],
  ]);
  Source.last.say("health", [{ what: "database", text: "gone", do: "wait", since: "" }]);
  expect(live.health[0].what).toBe("database");
});

it("shows when the line is lost, and closes it when it is told to", () => {
  live.start([], () => {});
  Source.last.onopen?.();
  expect(live.connected).toBe(true);
  Source.last.onerror?.();
  expect(live.connected).toBe(false);
  live.stop();
  expect(Source.last.closed).toBe(true);
});

it("tells that the service refuses, which a browser does not try again", () => {
  vi.useFakeTimers();
  const refused = vi.fn();
  live.start([], refused);
  Source.last.onerror?.(); // the browser tries again by itself
  vi.advanceTimersByTime(10_000);
  expect(refused).not.toHaveBeenCalled();
  Source.last.readyState = Source.CLOSED;
  Source.last.onerror?.();
  vi.advanceTimersByTime(2000);
  expect(refused).toHaveBeenCalledOnce();
  vi.useRealTimers();
});

it("closes its line when the page is left, so that the browser can use it", () => {
  live.start([], () => {});
  page.dispatchEvent(new Event("pagehide"));
  expect(Source.last.closed).toBe(true);
});

it("follows calls over the same line, in one go for a page, and asks at once", async () => {
  vi.useFakeTimers();
  vi.stubGlobal("fetch", async (url: string) => ({ ok: true, status: 200, json: async () => [url] }));
  live.start([], () => {});
  const first = Source.last;
  const told: unknown[] = [];
  const failed: unknown[] = [];
  const f = { take: (b: unknown) => told.push(b), fail: (e: unknown) => failed.push(e) };
  const leave = live.follow("/items", f);
  const leaveOther = live.follow("/hooks", { take: () => {}, fail: () => {} });
  await vi.advanceTimersByTimeAsync(100);
  expect(told).toEqual([["/api/v1/items"]]);
  expect(first.closed).toBe(false);
  first.say("event", event(3)); // meanwhile
  Source.last.onopen?.();
  expect(first.closed).toBe(true);
  expect(live.events.map((e) => e.id)).toEqual([3]);
  expect(Source.last.url).toBe("/api/v1/live?also=%2Fitems&also=%2Fhooks");
  Source.last.say("also", { path: "/items", status: 200, body: ["a", "b"] });
  expect(told[1]).toEqual(["a", "b"]);
  Source.last.say("also", { path: "/items", status: 503, body: { error: "busy" } });
  expect(String(failed[0])).toContain("busy");
  leaveOther();
  await vi.advanceTimersByTimeAsync(100);
  expect(Source.last.url).toBe("/api/v1/live?also=%2Fitems");
  leave();
  Source.last.say("also", { path: "/items", status: 200, body: [] });
  expect(told).toHaveLength(2);
  vi.useRealTimers();
});
