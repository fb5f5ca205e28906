// The bodies of the control API, as /api/v1/openapi.json describes them.

export type State = "waiting" | "starting" | "live" | "degraded" | "failed";

export interface Problem {
  field: string;
  text: string;
}

export interface Rung {
  name: string;
  on: boolean;
  source?: boolean;
  width?: number;
  height?: number;
  bitrate?: number;
  peak?: number;
  buffer?: number;
  effort?: number;
  codec?: string;
  audioBitrate?: number;
}

export interface Ladder {
  planned: boolean;
  rungs: Rung[] | null;
  revision?: number;
}

/** What a channel did over the last hour. */
export interface History {
  every: number; // milliseconds between two measurements
  until: number; // milliseconds since 1970
  bitrate: number[];
  load: number[];
  viewers: number[];
}

/** Something wrong with the service itself. */
export interface ServiceProblem {
  what: string;
  text: string;
  do: string;
  since: string;
}

export interface Track {
  kind: number; // 1 video, 2 audio, 3 timed data
  codec: string;
  label?: string; // what people call the codec
  codecName: string;
  language?: string;
  name?: string;
  width?: number;
  height?: number;
  sampleRate?: number;
  channels?: number;
}

/** One way in which a channel may be fed, and how it is. */
export interface Input {
  kind: "sender" | "file";
  file?: string;
  onAir?: boolean;
  chosen?: boolean; // by hand
  standby?: number; // senders that are connected and not on air
  problem?: string;
}

export interface Rendition {
  name: string;
  kind: string;
  codec: string;
  width?: number;
  height?: number;
  frameRate?: number;
  peak: number;
  average: number;
  first: number;
  last: number;
  retired?: boolean;
}

export interface Status {
  slug: string;
  title: string;
  state: State;
  problems: Problem[];
  inputs: Input[]; // the preferred one first
  feed?: {
    protocol: string;
    remote: string;
    begun: string;
    tracks: Track[];
    bitrate: number;
    frameRate: number;
    driftPPM: number;
    driftKnown: boolean;
  };
  lastFeed?: { remote: string; ended: string; reason: string };
  renditions: Rendition[];
  rungs: Rung[];
  worker?: {
    load: number;
    cpu: number;
    lag: number;
    dropped: number;
    dropping: number;
    replaced: number;
  };
  viewers?: Record<string, number>; // by protocol
  partTarget: number; // milliseconds
  memory: number;
  memoryBound: number;
  pictureAt: number;
}

export interface Addresses {
  console: string;
  watch: string;
  embed: string;
  hls: string;
  dash: string;
  lowDash: string;
  ts?: string;
  selections: { name: string; hls: string; dash: string; lowDash: string }[];
  picture: string;
  code: string;
  server: string;
  secure?: string;
}

export interface Selection {
  name: string;
  rungs?: string[];
  soundOnly?: boolean;
}

export interface Settings {
  slug: string;
  title: string;
  segmentMillis: number;
  partMillis: number;
  window: number;
  startOffsetMillis?: number;
  aligned?: boolean;
  ts?: boolean;
  numbered?: boolean;
  selections?: Selection[];
  inputs?: Input[];
  soundName?: string;
  language?: string;
  coverEvery?: number;
  closed?: boolean;
  partFiles?: boolean;
  ladder: Ladder;
}

export interface TimelineSegment {
  msn: number;
  start: number; // milliseconds since 1970
  duration: number;
  open?: boolean;
  gap?: boolean;
  discontinuity?: boolean;
  bytes: number;
  parts: number[]; // milliseconds
}

export interface TimelineRow {
  rendition: string;
  kind: string;
  segments: TimelineSegment[];
}

export interface Finding {
  level: "breaks" | "risk" | "note";
  rule: string;
  where: string;
  found: string;
  want: string;
  ref: string;
  count: number;
}

export interface StreamReport {
  name: string;
  kind: string;
  codec?: string;
  size?: string;
  segments: number;
  parts: number;
  announced: number;
  peak: number;
  edge?: number;
  fetch?: number;
  aim: number;
  behind?: number;
}

export interface Report {
  address: string;
  protocol: string;
  live: boolean;
  seconds: number;
  streams: StreamReport[];
  findings: Finding[];
  skew: number;
  verdict: string;
  broken: number;
  risks: number;
}

export interface Channel {
  settings: Settings;
  revision: number;
  created: string;
  status: Status;
  addresses: Addresses;
}

export interface Key {
  id: number;
  label: string;
  created: string;
  used?: string;
  secret?: string;
  server?: string;
  url?: string;
}

export interface Event {
  id: number;
  at: string;
  channel?: string;
  level: "info" | "warning" | "failure";
  kind: string;
  text: string;
  do?: string;
  count?: number; // how often, when more than once
  last?: string;
}
