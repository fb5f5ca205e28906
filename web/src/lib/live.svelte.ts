import type { Event, Status } from "./types";

const keptEvents = 200;
const keptSamples = 60;

/** Live is what the service tells of itself without being asked again. */
class Live {
  channels = $state<Status[]>([]);
  events = $state<Event[]>([]);
  known = $state(false); // the first update has come
  connected = $state(false);
  now = $state(Date.now());
  history = $state<Record<string, { load: number[]; bitrate: number[] }>>({});
  #source?: EventSource;

  start(past: Event[]) {
    this.stop();
    this.events = past;
    const source = new EventSource("/api/v1/live");
    this.#source = source;
    // A browser keeps a page that was left for a while, with its connections, of which it has six
    // for a server. A page that is come back to begins anew.
    addEventListener("pagehide", () => source.close(), { once: true });
    addEventListener("pageshow", (e) => e.persisted && location.reload());
    source.onopen = () => (this.connected = true);
    source.onerror = () => (this.connected = false);
    source.addEventListener("status", (e) => this.#take(JSON.parse((e as MessageEvent).data)));
    source.addEventListener("event", (e) => {
      const next = JSON.parse((e as MessageEvent).data) as Event;
      this.events = [next, ...this.events.filter((o) => o.id !== next.id)].slice(0, keptEvents);
    });
  }

  #take(list: Status[]) {
    this.channels = list;
    this.known = true;
    this.connected = true;
    this.now = Date.now();
    const next: typeof this.history = {};
    for (const c of list) {
      const old = this.history[c.slug] ?? { load: [], bitrate: [] };
      next[c.slug] = {
        load: [...old.load, c.worker?.load ?? 0].slice(-keptSamples),
        bitrate: [...old.bitrate, c.feed?.bitrate ?? 0].slice(-keptSamples),
      };
    }
    this.history = next;
  }

  stop() {
    this.#source?.close();
    this.#source = undefined;
    this.known = false;
    this.connected = false;
  }

  channel(slug: string): Status | undefined {
    return this.channels.find((c) => c.slug === slug);
  }
}

export const live = new Live();
