// @vitest-environment jsdom
import { cleanup, fireEvent, render, screen, waitFor, within } from "@testing-library/svelte";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import type { Channel, ChannelRelay, Input, NewLadder, Rung, Status } from "../lib/types";
import InputList from "./InputList.svelte";
import LadderEditor from "./LadderEditor.svelte";
import Relays from "./Relays.svelte";
import Sender from "./Sender.svelte";
import SettingsForm from "./SettingsForm.svelte";

// The parts' charts ask for the scheme of colours, which jsdom does not know.
vi.hoisted(() => Object.assign(globalThis, { matchMedia: () => new EventTarget() }));

/** What the page has asked of the service, and what that answers. */
let calls: { method: string; path: string; body: never }[] = [];
let answers: Record<string, unknown> = {};
let refused: Record<string, object> = {};

beforeEach(() => {
  calls = [];
  answers = { "GET /plans": [], "GET /images": [] };
  refused = {};
  vi.stubGlobal("fetch", async (url: string, init?: RequestInit) => {
    const method = init?.method ?? "GET";
    const path = url.replace("/api/v1", "");
    calls.push({ method, path, body: (init?.body ? JSON.parse(String(init.body)) : undefined) as never });
    const no = refused[`${method} ${path}`];
    return new Response(JSON.stringify(no ?? answers[`${method} ${path}`] ?? {}), { status: no ? 422 : 200 });
  });
});
afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

/** sent is the body of the newest call of a kind. */
const sent = <T>(method: string, path: string) =>
  calls.findLast((c) => c.method === method && c.path === path)?.body as T | undefined;

const status = (more: object): Status =>
  ({ slug: "pier", inputs: [], rungs: [], renditions: [], problems: [], ...more }) as unknown as Status;
const channel = (inputs: Input[]): Channel =>
  ({ settings: { slug: "pier", inputs }, senders: [] }) as unknown as Channel;

const rungs: Rung[] = [
  { name: "source", on: true, source: true },
  { name: "720p", on: true, height: 720, bitrate: 2_500_000, audioBitrate: 128_000 },
];
const source = { kind: 1, width: 1280, height: 720, frameRate: 30000 };

async function editor(ladder: Partial<NewLadder> = {}, more: object = {}) {
  answers["GET /channels/pier/ladder"] = { planned: false, revision: 7, rungs, ...ladder };
  const changed = vi.fn();
  render(LadderEditor, { slug: "pier", status: status({ feed: { tracks: [source] }, ...more }), changed });
  await screen.findByLabelText("Plan");
  return changed;
}
const rows = () => [...document.querySelectorAll<HTMLElement>("[data-rung]")].map((r) => r.dataset.rung);

it("ladder editor: applies what was typed, as an edit of the revision that it read", async () => {
  const changed = await editor();
  await waitFor(() => expect(rows()).toEqual(["source", "720p"]));
  const apply = screen.getByText("Apply at the next segment") as HTMLButtonElement;
  expect(apply.disabled).toBe(true);
  await fireEvent.input(screen.getByLabelText("720p bitrate"), { target: { value: "1800" } });
  expect(apply.disabled).toBe(false);
  answers["PUT /channels/pier/ladder"] = { planned: false, revision: 8, rungs };
  await fireEvent.click(apply);
  await screen.findByText("Takes effect at the next segment.");
  const body = sent<NewLadder>("PUT", "/channels/pier/ladder");
  expect(body?.revision).toBe(7);
  expect(body?.planned).toBe(false);
  expect(body?.rungs?.[1].bitrate).toBe(1_800_000);
  expect(changed).toHaveBeenCalledOnce();
  expect(apply.disabled).toBe(true);
});

it("ladder editor: adds, turns off and removes rungs, and goes back to what there was", async () => {
  await editor();
  await waitFor(() => expect(rows()).toHaveLength(2));
  await fireEvent.click(screen.getByText("Add rung"));
  expect(rows()).toHaveLength(3);
  await fireEvent.click(screen.getByText("Add sound"));
  expect(rows()[3]).toBe("sound");
  await fireEvent.click(screen.getByLabelText("Remove sound"));
  await fireEvent.click(screen.getByLabelText("720p on"));
  expect(screen.getByText(/^1 encoded; the source leads/)).toBeTruthy();
  await fireEvent.click(screen.getByText("Discard"));
  await waitFor(() => expect(rows()).toEqual(["source", "720p"]));
  expect(calls.some((c) => c.method === "PUT")).toBe(false);
});

it("ladder editor: says what the service refused, and keeps what was typed", async () => {
  await editor();
  await waitFor(() => expect(rows()).toHaveLength(2));
  await fireEvent.input(screen.getByLabelText("720p height"), { target: { value: "9000" } });
  refused["PUT /channels/pier/ladder"] = {
    error: "the ladder was not changed",
    problems: [{ field: "720p.height", text: "found 9000, expected 4320 at most" }],
  };
  await fireEvent.click(screen.getByText("Apply at the next segment"));
  await screen.findByText(/expected 4320 at most/);
  expect((screen.getByLabelText("720p height") as HTMLInputElement).value).toBe("9000");
});

it("ladder editor: a rung of the plan in use is turned off, not removed", async () => {
  answers["GET /plans"] = [{ name: "regatta", version: 2, rungs: [rungs[1]] }];
  await editor({ plan: { name: "regatta", version: 1, own: [] } } as Partial<NewLadder>);
  await waitFor(() => expect(rows()).toHaveLength(2));
  expect(await screen.findByText("Take version 2")).toBeTruthy();
  await fireEvent.click(screen.getByLabelText("Remove 720p"));
  expect(rows()).toEqual(["source", "720p"]);
  expect((screen.getByLabelText("720p on") as HTMLInputElement).checked).toBe(false);
});

it("ladder editor: shows what a rung becomes where the source has less", async () => {
  await editor(
    { rungs: [{ ...rungs[1], height: 1080 }] },
    { renditions: [{ name: "720p", width: 1280, height: 720 }] },
  );
  expect(await screen.findByText("made as 1280×720: the source has no more")).toBeTruthy();
  await fireEvent.click(screen.getByLabelText("All settings of 720p"));
  expect(screen.getByLabelText("All settings of 720p").getAttribute("aria-expanded")).toBe("true");
});

it("ladder editor: the settings of the whole ladder are applied at once", async () => {
  await editor({ planned: true });
  await waitFor(() => expect(rows()).toHaveLength(2));
  answers["PUT /channels/pier/ladder"] = { planned: true, governor: "lower", revision: 8, rungs };
  await fireEvent.change(screen.getByLabelText("Governor"), { target: { value: "lower" } });
  await waitFor(() => expect(sent<NewLadder>("PUT", "/channels/pier/ladder")).toBeTruthy());
  expect(sent<NewLadder>("PUT", "/channels/pier/ladder")).toMatchObject({ planned: true, governor: "lower" });
});

const inputs = [
  { kind: "sender", onAir: true, standby: false },
  { kind: "address", address: "rtsp://pier.example/live", onAir: false, standby: true },
  { kind: "slate", onAir: false, standby: false },
];
const stored: Input[] = [
  { kind: "sender" },
  { kind: "address", address: "rtsp://pier.example/live", secret: "***" },
  { kind: "slate" },
];

it("input list: orders inputs, and sends their secrets back as they were told", async () => {
  render(InputList, { channel: channel(stored), status: status({ inputs }), changed: vi.fn() });
  const items = screen.getAllByRole("listitem").map((li) => li.dataset.input);
  expect(items).toEqual(["senders", "rtsp://pier.example/live", "slate"]);
  await fireEvent.click(screen.getByLabelText("Prefer rtsp://pier.example/live"));
  const body = sent<{ inputs: Input[] }>("PATCH", "/channels/pier");
  expect(body?.inputs.map((i) => i.kind)).toEqual(["address", "sender", "slate"]);
  expect(body?.inputs[0].secret).toBe("***");
});

it("input list: adds an address, and keeps what was typed when that is refused", async () => {
  render(InputList, { channel: channel(stored), status: status({ inputs }), changed: vi.fn() });
  const field = screen.getByLabelText("Address") as HTMLInputElement;
  await fireEvent.input(field, { target: { value: " tcp://0.0.0.0:5000 " } });
  refused["PATCH /channels/pier"] = { error: "the port is taken", do: "Take another one." };
  await fireEvent.submit(field.form as HTMLFormElement);
  await screen.findByText(/the port is taken/);
  expect(field.value).toBe(" tcp://0.0.0.0:5000 ");
  delete refused["PATCH /channels/pier"];
  await fireEvent.submit(field.form as HTMLFormElement);
  await waitFor(() => expect(field.value).toBe(""));
  const body = sent<{ inputs: Input[] }>("PATCH", "/channels/pier");
  expect(body?.inputs[3]).toMatchObject({ kind: "address", address: "tcp://0.0.0.0:5000" });
  expect(body?.inputs).toHaveLength(4);
});

const relay = (more: object): ChannelRelay =>
  ({
    name: "club",
    address: "srt://club.example:9000",
    state: "sending",
    bitrate: 800_000,
    curve: [1, 2, 3],
    ...more,
  }) as unknown as ChannelRelay;

it("relays: shows each with its state, and why one does not send", async () => {
  answers["GET /channels/pier/relays"] = [
    relay({}),
    relay({
      name: "town",
      progress: { state: "retrying", bitrate: 0, error: "key" },
      words: "the server refused the key",
    }),
  ];
  render(Relays, { slug: "pier", status: status({}) });
  expect(await screen.findByText("club")).toBeTruthy();
  expect(screen.getByRole("alert").textContent).toContain("the server refused the key");
});

it("relays: says that there are none, and adds one", async () => {
  answers["GET /channels/pier/relays"] = [];
  render(Relays, { slug: "pier", status: status({ rungs }) });
  await fireEvent.click(await screen.findByText(/Add a relay/));
  await fireEvent.input(screen.getByLabelText("Name"), { target: { value: "club" } });
  const address = screen.getByLabelText("Address of the far end");
  await fireEvent.input(address, { target: { value: "srt://club.example:9000" } });
  answers["GET /channels/pier/relays"] = [relay({})];
  await fireEvent.submit((address as HTMLInputElement).form as HTMLFormElement);
  await waitFor(() => expect(sent("PUT", "/channels/pier/relays/club")).toBeTruthy());
  expect(sent("PUT", "/channels/pier/relays/club")).toMatchObject({ address: "srt://club.example:9000" });
  expect(await screen.findByText("club")).toBeTruthy();
});

it("tabs: arrow keys, Home and End go between protocols", async () => {
  answers["GET /channels/pier/keys"] = [];
  const senders = ["RTMP", "SRT", "WebRTC"].map((protocol) => ({
    protocol,
    server: `${protocol}://pier`,
    key: "k",
    url: "u",
    hint: "",
  }));
  render(Sender, {
    channel: {
      settings: { slug: "pier", inputs: [], access: {} },
      addresses: { senders, receivers: [] },
    } as unknown as Channel,
    changed: vi.fn(),
  });
  const list = await screen.findByRole("tablist");
  const tab = (name: string) => within(list).getByText(name);
  const chosen = () => within(list).getByRole("tab", { selected: true }).textContent;
  tab("RTMP").focus();
  await fireEvent.keyDown(tab("RTMP"), { key: "ArrowRight" });
  expect(chosen()).toBe("SRT");
  expect(document.activeElement).toBe(tab("SRT"));
  await fireEvent.keyDown(tab("SRT"), { key: "End" });
  expect(chosen()).toBe("WebRTC");
  await fireEvent.keyDown(tab("WebRTC"), { key: "ArrowRight" });
  expect(chosen()).toBe("RTMP");
  expect(
    within(list)
      .getAllByRole("tab")
      .filter((t) => t.tabIndex === 0),
  ).toHaveLength(1);
});

it("settings form: follows the channel until something is typed, and sends the revision that it shows", async () => {
  const at = (revision: number, title: string) =>
    ({
      revision,
      settings: {
        slug: "pier",
        title,
        packaging: { segmentMillis: 2000, partMillis: 200, window: 6 },
        outputs: {},
        access: {},
        switching: {},
        keeping: {},
      },
    }) as unknown as Channel;
  const changed = vi.fn();
  const { rerender } = render(SettingsForm, { channel: at(1, "Pier"), changed });
  const title = () => screen.getByDisplayValue(/Pier/) as HTMLInputElement;
  await rerender({ channel: at(2, "Pier, day 2"), changed });
  expect(title().value).toBe("Pier, day 2");
  await fireEvent.input(title(), { target: { value: "Pier, typed" } });
  await rerender({ channel: at(3, "Pier, by another"), changed });
  expect(title().value).toBe("Pier, typed");
  refused["PATCH /channels/pier"] = { error: "the settings were changed meanwhile" };
  await fireEvent.submit(title().form as HTMLFormElement);
  await screen.findByText(/changed meanwhile/);
  expect(sent("PATCH", "/channels/pier")).toMatchObject({ revision: 2, title: "Pier, typed" });
});
