// @vitest-environment jsdom
import { cleanup, fireEvent, render, screen } from "@testing-library/svelte";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import type { Playback } from "../lib/play.svelte";
import Controls from "./Controls.svelte";
import SeekBar from "./SeekBar.svelte";
import "./index";

const noon = Date.parse("2026-06-06T12:00:00Z");
/** playback is what the player does, as far as its controls look at it. */
const playback = (more: object) =>
  ({
    back: false,
    seeks: false,
    oldest: 0,
    behind: 2,
    markers: [],
    sounds: [],
    texts: [],
    qualities: [],
    chosen: "",
    playAt: vi.fn(),
    toLive: vi.fn(),
    choose: vi.fn(),
    listen: vi.fn(),
    read: vi.fn(),
    ...more,
  }) as unknown as Playback;
const video = () => Object.assign(document.createElement("video"), { play: async () => {}, pause: () => {} });

beforeEach(() => vi.useFakeTimers({ now: noon, toFake: ["Date", "setInterval", "clearInterval"] }));
afterEach(() => {
  cleanup();
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

const past = { back: true, oldest: noon - 600_000 }; // ten minutes of time-shift
const seek = (more: object, props: object = {}) => {
  const p = playback(more);
  render(SeekBar, {
    playback: p,
    video: video(),
    range: { start: 0, end: 0, at: 0 },
    live: false,
    still: (at: number) => `/picture.jpg?time=${at}`,
    ...props,
  });
  return p;
};
const bar = () => screen.getByLabelText("Place") as HTMLInputElement;

it("seek bar: covers the time-shift, and goes to where the hand leaves it", async () => {
  const p = seek({ ...past, behind: 65 });
  expect([bar().min, bar().max]).toEqual(["-600", "0"]);
  expect(bar().value).toBe("-65");
  expect(bar().getAttribute("aria-valuetext")).toBe("1:05 behind live");
  await fireEvent.input(bar(), { target: { value: "-300" } });
  expect(p.playAt).not.toHaveBeenCalled();
  expect(document.querySelector("img")?.getAttribute("src")).toBe(`/picture.jpg?time=${noon - 300_000}`);
  expect(document.querySelector("figcaption")?.textContent).toContain("5:00 ago");
  await fireEvent.change(bar(), { target: { value: "-300" } });
  expect(p.playAt).toHaveBeenCalledWith(noon - 300_000);
  expect(document.querySelector("figure")).toBeNull();
});

it("seek bar: shows markers where they are, and goes to them", async () => {
  const at = noon - 150_000;
  const p = seek({ ...past, markers: [{ id: "1", at, text: "Start of race 3" }] });
  const marker = screen.getByLabelText("Go to Start of race 3");
  expect(marker.style.left).toBe("75%");
  await fireEvent.click(marker);
  expect(p.playAt).toHaveBeenCalledWith(at);
});

it("seek bar: a picture that is not kept leaves its place empty", async () => {
  seek(past);
  const area = document.querySelector(".past") as HTMLElement;
  area.getBoundingClientRect = () => ({ left: 0, width: 1000 }) as DOMRect;
  await fireEvent.pointerMove(area, { clientX: 500 });
  const img = document.querySelector("img") as HTMLImageElement;
  expect(img).toBeTruthy();
  await fireEvent.error(img);
  expect(img.style.visibility).toBe("hidden");
  await fireEvent.load(img);
  expect(img.style.visibility).toBe("");
  await fireEvent.pointerLeave(area);
  expect(document.querySelector("figure")).toBeNull();
});

it("seek bar: moves within what the player holds when there is no time-shift", async () => {
  const v = video();
  seek({ seeks: true }, { video: v, range: { start: 100, end: 130, at: 120 } });
  expect(bar().getAttribute("aria-valuetext")).toBe("0:10 behind live");
  await fireEvent.input(bar(), { target: { value: "110" } });
  expect(v.currentTime).toBe(110);
});

it("seek bar: is not there when there is nowhere to go", () => {
  seek({ seeks: true }, { range: { start: 100, end: 102, at: 101 } });
  expect(screen.queryByLabelText("Place")).toBeNull();
});

const controls = (more: object, props: object = {}) => {
  const p = playback(more);
  const v = video();
  const made = {
    playback: p,
    video: v,
    range: { start: 0, end: 90, at: 30 },
    live: true,
    recorded: false,
    paused: false,
    full: false,
    menu: true,
    toggle: vi.fn(),
    fullscreen: vi.fn(),
    ...props,
  };
  render(Controls, made);
  return made;
};

it("controls: every button has a name, and does what it says", async () => {
  const c = controls({}, { live: false });
  for (const b of screen.getAllByRole("button"))
    expect(b.getAttribute("aria-label") ?? b.textContent?.trim(), b.outerHTML).toBeTruthy();
  await fireEvent.click(screen.getByLabelText("Pause"));
  expect(c.toggle).toHaveBeenCalledOnce();
  await fireEvent.click(screen.getByText("Go live"));
  expect(c.playback.toLive).toHaveBeenCalledOnce();
  await fireEvent.click(screen.getByLabelText("Full screen"));
  expect(c.fullscreen).toHaveBeenCalledOnce();
});

it("controls: the volume follows the element, and at its end mutes it", async () => {
  const { video: v } = controls({});
  v.muted = true;
  await fireEvent(v, new Event("volumechange"));
  expect(screen.getByLabelText("Unmute").getAttribute("aria-pressed")).toBe("true");
  await fireEvent.input(screen.getByLabelText("Volume"), { target: { value: "0.5" } });
  expect([v.volume, v.muted]).toEqual([0.5, false]);
  await fireEvent.input(screen.getByLabelText("Volume"), { target: { value: "0" } });
  expect(v.muted).toBe(true);
});

it("controls: offers sounds, captions and qualities only where there is a choice", async () => {
  controls({ sounds: [{ id: "en", label: "English" }] });
  expect(screen.queryAllByRole("combobox")).toHaveLength(0);
  cleanup();
  const c = controls({
    sounds: [
      { id: "en", label: "English" },
      { id: "de", label: "German" },
    ],
    texts: [{ id: "cc", label: "Captions" }],
    qualities: [{ id: "720p", label: "720p", rate: 1 }],
    showing: "720p",
  });
  expect(screen.getByText("Auto (720p)")).toBeTruthy();
  for (const [label, id, called] of [
    ["Sound", "de", c.playback.listen],
    ["Captions", "cc", c.playback.read],
    ["Quality", "720p", c.playback.choose],
  ] as const) {
    await fireEvent.change(screen.getByLabelText(label), { target: { value: id } });
    expect(called, label).toHaveBeenCalledWith(id);
  }
});

it("controls: of a recording say how much of it has played, and nothing of live", () => {
  controls({}, { recorded: true });
  expect(screen.getByText("0:30 of 1:30")).toBeTruthy();
  expect(screen.queryByText("Live")).toBeNull();
});

/** player puts the element into the page, with a service that tells of the channel so. */
async function player(attributes: Record<string, string>, told: object, code = 200) {
  vi.useRealTimers();
  vi.stubGlobal("fetch", async () => new Response(JSON.stringify(told), { status: code }));
  HTMLMediaElement.prototype.load = () => {};
  HTMLMediaElement.prototype.play = async () => {};
  HTMLMediaElement.prototype.pause = () => {};
  const e = document.createElement("metaplasis-player");
  for (const [k, v] of Object.entries(attributes)) e.setAttribute(k, v);
  document.body.append(e);
  await vi.waitFor(() => expect(e.shadowRoot?.querySelector(".player")).toBeTruthy());
  return e;
}
const text = (e: HTMLElement) => e.shadowRoot?.querySelector(".message")?.textContent?.trim();

it("player element: says in words why nothing plays", async () => {
  const waiting = await player({ channel: "pier" }, { title: "Pier", state: "waiting" });
  await vi.waitFor(() => expect(text(waiting)).toContain("Nobody is sending"), 4000);
  waiting.remove();
  const missing = await player({ channel: "nowhere" }, {}, 404);
  await vi.waitFor(() => expect(text(missing)).toContain("no such channel"), 4000);
  missing.remove();
});

it("player element: keys work, but not while a list has them, and attributes leave controls out", async () => {
  const e = await player({ channel: "pier", muted: "no" }, { title: "Pier", state: "waiting" });
  const v = e.querySelector("video") as HTMLVideoElement;
  const region = e.shadowRoot?.querySelector(".player") as HTMLElement;
  expect(v.muted).toBe(false);
  await fireEvent.keyDown(region, { key: "m" });
  expect(v.muted).toBe(true);
  await fireEvent.keyDown(region, { key: "ArrowDown" });
  expect(v.volume).toBeCloseTo(0.9);
  await fireEvent.keyDown(region, { key: "m", ctrlKey: true });
  expect(v.muted).toBe(true);
  e.remove();
  const bare = await player({ channel: "pier", controls: "no" }, { title: "Pier", state: "waiting" });
  expect(bare.shadowRoot?.querySelector(".bar")).toBeNull();
  bare.remove();
});
