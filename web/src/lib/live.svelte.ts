import { arrival } from "./input";
import { call } from "./api";
import type { Event, History, ServiceProblem, Status } from "./types";

const keptEvents = 200;

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
  #lost: Record<string, number> = {};
  #wanted = new Set<string>();
  #clock?: ReturnType<typeof setInterval>;
  #again?: ReturnType<typeof setTimeout>;

  /** start listens; refused is called when the service answers with anything but updates. */
  start(past: Event[], refused: () => void) {
    this.#close();
    this.events = past;
    const source = new EventSource("/api/v1/live");
    this.#source = source;
    // A browser keeps a page that was left for a while, with its connections, of which it has six
    // for a server. A page that is come back to begins anew.
    addEventListener("pagehide", () => source.close(), { once: true });
    addEventListener("pageshow", (e) => e.persisted && location.reload());
    source.onopen = () => (this.connected = true);
    source.onerror = () => {
      this.connected = false;
      // After an answer that is no stream, such as 401, a browser does not try again.
      if (source.readyState === EventSource.CLOSED && source === this.#source) {
        this.#again = setTimeout(refused, 2000);
      }
    };
    source.addEventListener("status", (e) => this.#take(JSON.parse((e as MessageEvent).data)));
    source.addEventListener("health", (e) => (this.health = JSON.parse((e as MessageEvent).data)));
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
    this.#clock = setInterval(() => {
      this.now = Date.now();
      if (this.heard && this.now - this.heard > 5000) this.connected = false;
    }, 1000);
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
