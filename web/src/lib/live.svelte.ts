import { arrival } from "./input";
import { call, refusal } from "./api";
import type { Event, History, ServiceProblem, Status } from "./types";

const keptEvents = 200;

/** What a call of the API answers, for who follows it. */
interface Follower {
  take: (body: unknown) => void;
  fail: (error: unknown) => void;
}

/** Live is what the service tells of itself without being asked again. */
class Live {
  channels = $state<Status[]>([]);
  events = $state<Event[]>([]);
  health = $state<ServiceProblem[]>([]); // what is wrong with the service itself
  known = $state(false); // the first update has come
  connected = $state(false);
  now = $state(Date.now());
  heard = $state(0); // when the newest update came
  history = $state<Record<string, History>>({}); // of channels that a page shows
  #source?: EventSource;
  #before: EventSource[] = []; // those that it takes the place of, until it is open: no event is lost between
  #refused = () => {};
  #lost: Record<string, number> = {};
  #wanted = new Set<string>();
  #followers = new Map<string, Set<Follower>>();
  #clock?: ReturnType<typeof setInterval>;
  #again?: ReturnType<typeof setTimeout>;
  #reopen?: ReturnType<typeof setTimeout>;

  /** start listens; refused is called when the service answers with anything but updates. */
  start(past: Event[], refused: () => void) {
    this.#close();
    this.events = past;
    this.#refused = refused;
    this.#open();
    // A browser keeps a page that was left for a while, with its connections, of which it has six
    // for a server. A page that is shown again starts over.
    addEventListener("pagehide", () => this.#source?.close(), { once: true });
    addEventListener("pageshow", (e) => e.persisted && location.reload());
    this.#clock = setInterval(() => {
      this.now = Date.now();
      if (this.heard && this.now - this.heard > 5000) this.connected = false;
    }, 1000);
  }

  #open() {
    const also = [...this.#followers.keys()].map((p) => `also=${encodeURIComponent(p)}`).join("&");
    const source = new EventSource(also ? `/api/v1/live?${also}` : "/api/v1/live");
    if (this.#source) this.#before.push(this.#source);
    this.#source = source;
    source.onopen = () => {
      this.connected = true;
      if (source === this.#source) this.#closeBefore();
    };
    source.onerror = () => {
      if (source !== this.#source) return;
      this.connected = false;
      // After an answer that is no stream, such as 401, a browser does not try again.
      if (source.readyState === EventSource.CLOSED) this.#again = setTimeout(this.#refused, 2000);
    };
    source.addEventListener("status", (e) => this.#take(JSON.parse((e as MessageEvent).data)));
    source.addEventListener("health", (e) => (this.health = JSON.parse((e as MessageEvent).data)));
    source.addEventListener("also", (e) => {
      const { path, status, body } = JSON.parse((e as MessageEvent).data);
      for (const f of this.#followers.get(path) ?? [])
        if (status < 400) f.take(body);
        else f.fail(refusal(status, body));
    });
    source.addEventListener("event", (e) => {
      const next = JSON.parse((e as MessageEvent).data) as Event;
      const others = this.events.filter((o) => o.id !== next.id);
      // One that happens again keeps its place; its count tells.
      this.events = (
        others.length < this.events.length
          ? this.events.map((o) => (o.id === next.id ? next : o))
          : [next, ...others]
      ).slice(0, keptEvents);
    });
  }

  /** follow tells what a call of the API answers, now and whenever that changes, until the function that
   * it returns is called. */
  follow(path: string, f: Follower): () => void {
    // Nothing that is drawn depends on who follows.
    // eslint-disable-next-line svelte/prefer-svelte-reactivity
    const all = this.#followers.get(path) ?? new Set<Follower>();
    all.add(f);
    this.#followers.set(path, all);
    call<unknown>("GET", path).then(
      (body) => all.has(f) && f.take(body),
      (e) => all.has(f) && f.fail(e),
    );
    this.#changed();
    return () => {
      all.delete(f);
      if (!all.size) this.#followers.delete(path);
      this.#changed();
    };
  }

  #closeBefore() {
    for (const s of this.#before) s.close();
    this.#before = [];
  }

  /** A page that comes in the place of another leaves and joins at once: the service is told of both together. */
  #changed() {
    clearTimeout(this.#reopen);
    if (this.#source) this.#reopen = setTimeout(() => this.#source && this.#open(), 50);
  }

  #take(list: Status[]) {
    this.channels = list;
    this.known = true;
    this.connected = true;
    this.now = this.heard = Date.now();
    for (const c of list) this.#add(c);
  }

  /** want keeps a channel's last hour, as far as the service has it, and goes on with it. */
  async want(slug: string) {
    if (this.#wanted.has(slug)) return;
    this.#wanted.add(slug);
    try {
      this.history[slug] = await call<History>("GET", `/channels/${slug}/history`);
    } catch {
      this.#wanted.delete(slug);
    }
  }

  #add(c: Status) {
    const h = this.history[c.slug];
    if (!h || this.now - h.until < h.every) return;
    const most = 3_600_000 / h.every;
    const keep = (list: number[], v: number) => [...list, v].slice(-most);
    const viewers = Object.values(c.viewers ?? {}).reduce((n, v) => n + v, 0);
    const quality: Record<string, number[]> = {};
    for (const r of c.renditions ?? [])
      if (r.psnr || (h.quality?.[r.name] && !r.retired))
        quality[r.name] = keep(h.quality?.[r.name] ?? [], r.psnr ?? 0);
    const { now, lost } = arrival(c);
    if (lost !== undefined) now.lost = Math.max(0, lost - (this.#lost[c.slug] ?? lost));
    this.#lost[c.slug] = lost ?? 0;
    const curves: Record<string, number[]> = {};
    for (const name of new Set([...Object.keys(h.arrival ?? {}), ...Object.keys(now)]))
      curves[name] = keep(h.arrival?.[name] ?? Array(h.bitrate.length).fill(0), now[name] ?? 0);
    this.history[c.slug] = {
      arrival: curves,
      every: h.every,
      until: this.now,
      bitrate: keep(h.bitrate, c.feed?.bitrate ?? 0),
      load: keep(h.load, c.worker?.load ?? 0),
      viewers: keep(h.viewers, viewers),
      quality,
    };
  }

  #close() {
    clearInterval(this.#clock);
    clearTimeout(this.#again);
    clearTimeout(this.#reopen);
    this.#closeBefore();
    this.#source?.close();
    this.#source = undefined;
  }

  stop() {
    this.#close();
    this.known = false;
    this.connected = false;
    this.heard = 0;
    this.history = {};
    this.#wanted.clear();
  }

  channel(slug: string): Status | undefined {
    return this.channels.find((c) => c.slug === slug);
  }
}

export const live = new Live();

/** Followed is what one call of the API answers, for as long as the component that made it is shown. */
export class Followed<T> {
  value = $state.raw<T | undefined>();
  error = $state<unknown>();
  readonly #path: () => string;

  constructor(path: () => string) {
    this.#path = path;
    $effect(() => live.follow(path(), { take: (b) => this.#take(b as T), fail: (e) => (this.error = e) }));
  }

  #take(value: T) {
    this.value = value;
    this.error = undefined;
  }

  /** refresh asks at once, after something was changed here. */
  async refresh() {
    try {
      this.#take(await call<T>("GET", this.#path()));
    } catch (e) {
      this.error = e;
    }
  }
}
