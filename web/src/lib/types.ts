// The bodies of the control API, written by `make types` from its Go types. Do not edit.

/** Access is who may use a channel. */
export interface Access {
  closed?: boolean; // Closed ends the playlists for good, until it is taken back.
  passphrase?: string; // Passphrase encrypts what senders send over SRT; without one it need not be encrypted. It is never shown.
  receivers?: boolean; // Receivers may fetch the sender's transport stream over SRT as it came, with a key.
  listed?: boolean; // Listed shows the channel in the public list while it is on air.
  senderNetworks?: string; // SenderNetworks are those from which senders are let in; none is everywhere.
}

/** Addresses are the full addresses of a channel. */
export interface Addresses {
  console: string;
  watch: string;
  embed: string;
  hls: string;
  dash: string;
  lowDash: string;
  ts?: string; // HLS with transport streams
  webrtc?: string; // WHEP
  socket: string; // WebSocket
  selections: SelectionAddresses[]; // Selections are the addresses of the named selections of rungs.
  picture: string;
  code: string; // markup that embeds the player in a page
  server: string; // RTMP server for an encoder; the key is its stream name
  secure?: string; // the same over TLS
  senders: SenderAddress[]; // how senders reach the channel, protocol by protocol
  receivers: ReceiverAddress[]; // how receivers fetch it
}

/** CarriedProgramme is one of several in a transport stream. */
export interface CarriedProgramme {
  channel: string;
  rung?: string; // "" is the source as it came
  number: number;
  name?: string; // of the service; "" is the channel's title
}

/** Change alters settings: what is left out stays as it is, and what is null takes its default. Within a group each setting is for itself; lists and the ladder are replaced whole. */
export interface Change {
  revision?: number; // that the change is based on; 0 for any
  slug: string;
  title: string;
  inputs?: Input[]; // none is a sender alone
  ladder: Ladder;
  packaging: Packaging;
  outputs: Outputs;
  access: Access;
  switching: Switching;
  keeping: Keeping;
  relays?: Relay[]; // Relays carry the channel onward to other servers and receivers.
}

/** Channel is a channel with its settings, how it is, and where it plays. */
export interface Channel {
  settings: Settings;
  revision: number; // of the settings; a change that names it is refused when they have changed since
  created: string;
  status: Status;
  addresses: Addresses;
}

/** ChannelRelay is an onward copy of a channel: how it is set, and how it is doing. */
export interface ChannelRelay {
  name: string; // within its channel
  address: string; // Address of the far end, of a scheme that package address has for relays.
  secret?: string; // Secret is what the far end asks for: the stream's name of RTMP, the password of RTSP, the passphrase of SRT, the token of WHIP, or parameters of the address as in passphrase=…&streamid=…. It is never shown.
  rung?: string; // "" is the source as it came
  sound?: string; // a rendition of sound, "" is that of the rung
  whole?: boolean; // the sender's whole transport stream, untouched
  programmes?: CarriedProgramme[]; // Programmes are those of other channels that go in the same transport stream, over udp, rtp and srt; Number is that of the channel's own, 0 is 1.
  number?: number;
  off?: boolean; // it is not to send
  from?: string; // From and Until are when it sends, if it does; the zero time is no bound.
  until?: string;
  words: string; // the state
  progress?: Progress; // nil of one that is not on
}

/** Chosen is the input that is on air by hand; an empty kind leaves it to the order of the inputs. */
export interface Chosen {
  kind: string; // Kind is "sender": an encoder that connects with a key; "address": what the service fetches or receives at an address; "studio": a source on the studio's network; "programme": a programme of the transport stream that another channel receives; "channel": another channel, or a rung of it; "file": a recording that repeats; "items": items of the library one after the other, again and again; "slate": a picture.
  name?: string; // Name tells several inputs for senders apart, such as backup; keys may lead to one of them. Of a source on the studio's network it is its name, or its ID.
  file?: string; // of a file: its name in the service's folder of files; of items: their names with + between; of a slate: its image, none for the title
  address?: string; // Address of the source, of a scheme that package address has for inputs.
  channel?: string; // of a programme: whose transport stream it is in; of a channel: its name
  programme?: string; // Programme of a transport stream, by its number or its name; none is the first. Of a channel, its rung; none is the source as it came.
  secret?: string; // Secret is the password or passphrase that the source asks for. It is never shown.
  onDemand?: boolean; // fetched only while somebody watches
}

/** Clock is where a clock is drawn. */
export type Clock = "" | "top" | "bottom";

/** Codec names the coding of a track. */
export type Codec = "h264" | "hevc" | "vp8" | "vp9" | "av1" | "mpeg-2" | "jpeg" | "webvtt" | "raw" | "aac" | "opus" | "mp2" | "mp3" | "ac-3" | "e-ac-3" | "a-law" | "u-law" | "pcm" | "id3" | "scte-35" | "captions" | "teletext" | "dvb-subtitles";

/** Coding is how the coding of an item goes. */
export interface Coding {
  state: string; // "waiting", "coding", "paused", "failed" or "done"
  rungs: string[];
  percent: number;
  speed?: number; // media time against time, in hundredths, of the newest stretch
  left?: number; // seconds, about
  trouble?: string;
}

/** Colour says how the samples of a picture are to be read: code points of ITU-T H.273, 0 when the source does not say. */
export interface Colour {
  primaries?: number;
  transfer?: number;
  matrix?: number;
  fullRange?: boolean;
}

/** Content is what kind of pictures an encoder is tuned for. */
export type Content = "" | "screen" | "drawn";

/** Crop is what is cut off, in luma samples of the source. */
export interface Crop {
  left?: number;
  top?: number;
  right?: number;
  bottom?: number;
}

/** Deliveries is what hooks were told, or are to be. */
export interface Deliveries {
  list: Delivery[];
  lost: number; // that there was no room for
}

/** Delivery is one try to tell a hook, or all tries of one happening. */
export interface Delivery {
  hook: number;
  event: string;
  channel?: string;
  at: string; // of the newest try
  tries: number;
  done: boolean; // it was taken
  givenUp?: boolean;
  status: string; // of the newest try, for people
  millis: number; // that it took
}

/** Entry is an item of the library: a file, or several that belong together by their names. */
export interface Entry {
  name: string; // part of its addresses
  file: string; // below the folder: the main one
  bytes: number;
  modified: string;
  beside?: string[]; // Beside are further files of it: rungs, sound and subtitles.
  looking?: number; // Looking is how much of the file was looked through, in hundredths, while that goes on; 0 when it is done.
  trouble?: string; // Trouble says why nothing of it plays, "" when something does; Note what is to be known beside.
  note?: string;
  container?: string;
  millis: number; // that it lasts
  tracks: EntryTrack[];
  hls?: string;
  ts?: string; // HLS with transport streams
  dash?: string;
  download?: string;
  packed?: boolean; // Packed: it is sound that browsers take in segments of its own frames alone, which HLS has and DASH has not.
  transport?: boolean; // Transport: transport streams hold something of it.
  coding?: Coding; // Coding is how the coding of a ladder goes, nil when nobody asked for one.
}

/** EntryTrack is a track of an item. */
export interface EntryTrack {
  name: string; // of its rendition
  file?: string;
  kind: string;
  codec: string;
  width?: number;
  height?: number;
  language?: string;
  bitrate: number; // bits per second
  keyMillis?: number; // how far keyframes lie apart at most
  trouble?: string; // why it does not play as it is
  codable?: boolean; // Codable: coding it again would help.
}

/** Error is the body of every answer with a status of 400 and above. */
export interface Error {
  error: string;
  do?: string; // what to do next
  problems?: Problem[]; // of settings that were refused whole
}

/** Event is one line of the event log. */
export interface Event {
  id?: number;
  at: string;
  channel?: string;
  level: Level;
  kind: string; // such as feed-refused
  text: string; // what happened
  do?: string;
  count?: number; // how often, when more than once
  last?: string; // the last of these times
}

/** FeedRecord is what is kept of one contribution connection. */
export interface FeedRecord {
  id: number;
  channel: string;
  protocol: string;
  remote: string;
  begun: string;
  ended?: string;
  reason?: string;
  tracks: Track[];
}

/** FeedStatus is the sender's side. */
export interface FeedStatus {
  protocol: string;
  remote: string;
  begun: string;
  tracks: Track[];
  bitrate: number; // bits per second, over the last seconds
  frameRate: number; // thousandths, over the last seconds
  driftPPM: number; // DriftPPM is by how many millionths the sender's clock runs fast, less than 0 slow. Media time follows it.
  driftKnown: boolean; // it takes some minutes to tell
  keyMillis?: number; // KeyMillis is how far the newest two keyframes lie apart, 0 while there are none.
  apartMillis?: number; // ApartMillis is by how much the newest picture is later than the newest sound, in media time.
  gapMillis?: number; // the longest that nothing came, over the last seconds
}

/** Filter is how pictures are scaled. */
export type Filter = "" | "nearest" | "bilinear" | "box";

/** Finding is one thing that is wrong, however often it was seen. */
export interface Finding {
  level: string;
  rule: string; // a short name
  where: string; // the rendition, or "" for the whole
  found: string; // the first time
  want: string;
  ref: string; // document and section
  count: number;
}

/** Governor says what may be changed of a ladder while it runs. */
export type Governor = "" | "lower" | "raise";

/** GovernorStatus is what the governor has changed of a channel's ladder. */
export interface GovernorStatus {
  mode: Governor;
  steps: Step[]; // in force, in the order in which they were taken
}

/** Health is how the service itself is. */
export interface Health {
  problems: ServiceProblem[];
}

/** History is what a channel did over the last hour, the oldest measurement first. */
export interface History {
  every: number; // between two measurements
  until: number; // when the last was taken, milliseconds since 1970; 0 without any
  bitrate: number[];
  load: number[]; // thousandths of real time that the worker's busiest stage takes
  viewers: number[];
  arrival: Record<string, number[]>; // Arrival is what is measured of the feed on air, by name: gap and keyframes and apart in milliseconds, jitter and rtt in microseconds, lost in packets since the measurement before. Those that the protocol does not measure are missing.
  quality: Record<string, number[]>; // Quality is the PSNR of the newest sample of each encoded rendition, hundredths of a decibel; 0 while there is none. Its last value is as old as those of the others; it may have fewer.
}

/** Hook is one program that is told. */
export interface Hook {
  id?: number;
  label?: string;
  url?: string; // http or https; or
  command?: string; // a program in the service's folder of hooks
  events?: string[]; // none is all but admission
  channel?: string; // "" is all
  secret?: string; // Secret signs calls: see Sign. It is told once, when the hook is made.
  strict?: boolean; // Strict refuses senders when the program does not answer an admission; without it they are let in.
}

/** Image is an image for logos and slates. */
export interface Image {
  name: string;
  digest: string;
  bytes: number;
  channels: string[]; // that use it
}

/** Input is one way in which a channel may be fed. */
export interface Input {
  kind: string; // Kind is "sender": an encoder that connects with a key; "address": what the service fetches or receives at an address; "studio": a source on the studio's network; "programme": a programme of the transport stream that another channel receives; "channel": another channel, or a rung of it; "file": a recording that repeats; "items": items of the library one after the other, again and again; "slate": a picture.
  name?: string; // Name tells several inputs for senders apart, such as backup; keys may lead to one of them. Of a source on the studio's network it is its name, or its ID.
  file?: string; // of a file: its name in the service's folder of files; of items: their names with + between; of a slate: its image, none for the title
  address?: string; // Address of the source, of a scheme that package address has for inputs.
  channel?: string; // of a programme: whose transport stream it is in; of a channel: its name
  programme?: string; // Programme of a transport stream, by its number or its name; none is the first. Of a channel, its rung; none is the source as it came.
  secret?: string; // Secret is the password or passphrase that the source asks for. It is never shown.
  onDemand?: boolean; // fetched only while somebody watches
}

/** InputStatus is an input at a glance. */
export interface InputStatus {
  kind: string; // Kind is "sender": an encoder that connects with a key; "address": what the service fetches or receives at an address; "studio": a source on the studio's network; "programme": a programme of the transport stream that another channel receives; "channel": another channel, or a rung of it; "file": a recording that repeats; "items": items of the library one after the other, again and again; "slate": a picture.
  name?: string; // Name tells several inputs for senders apart, such as backup; keys may lead to one of them. Of a source on the studio's network it is its name, or its ID.
  file?: string; // of a file: its name in the service's folder of files; of items: their names with + between; of a slate: its image, none for the title
  address?: string; // Address of the source, of a scheme that package address has for inputs.
  channel?: string; // of a programme: whose transport stream it is in; of a channel: its name
  programme?: string; // Programme of a transport stream, by its number or its name; none is the first. Of a channel, its rung; none is the source as it came.
  secret?: string; // Secret is the password or passphrase that the source asks for. It is never shown.
  onDemand?: boolean; // fetched only while somebody watches
  onAir: boolean;
  chosen?: boolean; // by hand
  standby?: number; // senders that are connected and not on air
  problem?: string;
  protocol?: string; // Of the feed that the input has, on air or standing by.
  remote?: string;
  line?: Line; // nil of protocols that measure nothing
}

/** Inspection asks for a stream to be inspected. */
export interface Inspection {
  address: string;
  seconds?: number; // 0 is 10; 40 at most
}

/** Interlaced says how interlaced pictures are made whole. */
export type Interlaced = "" | "frames" | "bob" | "weave";

/** Keeping is what is kept of a channel after it left the window. */
export interface Keeping {
  timeShiftMinutes?: number; // TimeShiftMinutes is how far back viewers may go.
  timeShiftMB?: number;
  record?: boolean; // Record keeps all that is on air, in recordings of RecordHours each, for RecordDays.
  recordHours?: number;
  recordDays?: number;
}

/** Key is a contribution key. Its secret is told once, when it is made. */
export interface Key {
  id: number;
  label: string;
  created: string;
  used?: string;
  input?: string;
  protocol?: string;
  expires?: string;
  receives?: boolean;
  secret?: string;
  senders?: SenderAddress[]; // the key in the fields of encoders
  server?: string; // for encoders with two fields: this, and the secret
  url?: string; // for encoders with one field
}

/** Kind says what a step changes. */
export type Kind = "effort" | "half-rate" | "off";

/** Ladder is the ordered plan of a channel. While Planned is set, it is made again from each source; the first edit by a person clears it. */
export interface Ladder {
  planned: boolean;
  rungs: Rung[];
  plan?: Use; // Plan is the named plan that the rungs are of, nil for none.
  governor?: Governor; // Governor may change rungs while the machine is short, and back: "lower" lowers effort, then frame rate, then turns the highest rung off; "raise" also raises the effort while there is room; "" leaves the ladder as it is.
  priority?: number; // Priority says whose turn it is first when the machine is short for several channels, 1 to 9; 0 is 5. The lower ones give way before the higher ones.
  interlaced?: Interlaced; // Interlaced says what becomes of interlaced pictures; "" makes a picture of each field.
}

/** LastFeed is how the newest feed of a channel ended. */
export interface LastFeed {
  remote: string;
  ended: string;
  reason: string;
}

/** Level says how bad an event is. */
export type Level = "info" | "warning" | "failure";

/** Leveled is how loud a rendition of sound is that is brought to a loudness. */
export interface Leveled {
  rendition: string;
  target: number; // LUFS
  momentary: number;
  shortTerm: number;
  integrated: number;
  peak: number;
}

/** Light is how bright pictures are and the display that they were graded on (SMPTE ST 2086; CTA-861.3). */
export interface Light {
  maxContent?: number; // brightest sample, candela per square metre
  maxAverage?: number; // brightest mean of a picture
  display?: number; // Display holds the chromaticities of red, green, blue and white, x and y, in units of 0.00002; all 0 when nobody says.
  brightest?: number; // of the display, in units of 0.0001 candela per square metre
  darkest?: number;
}

/** Line is what a protocol measures of a connection. Each part is nil where the protocol has none of it. What it points to is never changed. */
export interface Line {
  programmes?: Programme[]; // of the transport stream
  programme?: number; // the number of the one that feeds the channel
  ts?: StreamHealth;
  rtp?: RTP;
  srt?: SRT;
  socket?: Socket;
}

/** Listed is a channel in the public list. */
export interface Listed {
  channel: string;
  title: string;
  state: State;
  watch: string;
  picture: string;
}

/** Logo is an image upon the pictures. */
export interface Logo {
  image?: string;
  place?: Place;
  opacity?: number;
  width?: number;
}

/** Loudness is how loud sound is (EBU R 128), in hundredths of LUFS: over 0.4 s, over 3 s, and since the sound began. Peak is the highest true peak of the last second, in hundredths of a decibel of full scale. */
export interface Loudness {
  momentary: number;
  shortTerm: number;
  integrated: number;
  peak: number;
}

/** Marker is a timed event on a channel. Players see it as a date range or an event. */
export interface Marker {
  id: string;
  class: string; // what kind of thing it is, such as start or finish
  text: string;
  at: string;
  durationMillis?: number; // 0: not known
  splice?: string; // Splice is a splice_info_section (ANSI/SCTE 35) that came with the feed.
  out?: boolean; // the splice leaves the programme
  return?: string; // the section that returned to it
  returned?: boolean; // DurationMillis is what it took, not what was planned
}

/** Me says who is signed in. */
export interface Me {
  user: string;
  role: string;
}

/** Measured is what a way of coding took and how it looked. */
export interface Measured {
  width: number;
  height: number;
  bitrate: number; // bits per second
  quality: number; // hundredths of a decibel, all at one size of screen
}

/** NewCoding asks for a ladder of an item. */
export interface NewCoding {
  heights?: number[]; // of the rungs; empty: the usual ones
}

/** NewImage is the file of an image: a PNG, of half a megabyte at most. */
export interface NewImage {
  file: string;
}

/** NewKey is a contribution key to be. */
export interface NewKey {
  label: string;
  input?: string; // the name of the input for senders that it leads to; none for any
  protocol?: string; // the only one that it is for, such as SRT; none for any
  expires?: string; // a sender is cut off then
  receives?: boolean; // it is for a receiver over SRT, and lets nobody send
}

/** NewLadder replaces a ladder. */
export interface NewLadder {
  planned: boolean;
  rungs: Rung[];
  plan?: Use; // Plan is the named plan that the rungs are of, nil for none.
  governor?: Governor; // Governor may change rungs while the machine is short, and back: "lower" lowers effort, then frame rate, then turns the highest rung off; "raise" also raises the effort while there is room; "" leaves the ladder as it is.
  priority?: number; // Priority says whose turn it is first when the machine is short for several channels, 1 to 9; 0 is 5. The lower ones give way before the higher ones.
  interlaced?: Interlaced; // Interlaced says what becomes of interlaced pictures; "" makes a picture of each field.
  revision?: number; // of the settings that the change is based on; 0 for any
}

/** NewMarker is a marker to set. */
export interface NewMarker {
  class?: string;
  text: string;
  at?: string;
  durationMillis?: number;
}

/** NewPassword changes one's own password. */
export interface NewPassword {
  old: string;
  new: string;
}

/** NewRecording asks for a recording. Times are RFC 3339, "20 minutes ago", "marker" or "marker:ID". */
export interface NewRecording {
  title?: string;
  from?: string; // empty: now
  to?: string; // empty: until it is stopped
  renditions?: string[];
  days?: number; // that it is kept; 0 forever
}

/** NewToken is a token to make. Without a role it has that of who makes it. */
export interface NewToken {
  label: string;
  role?: string;
  days?: number; // that it is valid; 0 is a year
}

/** NewTrial asks for a trial: the last seconds of the feed are encoded in the background. With a rung it is tried at other efforts and bitrates; without one, several sizes are, for a ladder that fits the content. */
export interface NewTrial {
  rung?: string;
  efforts?: number[]; // none are 1, 3, 5 and 7 of a rung, 2 of a ladder
  bitrates?: number[]; // bits per second; none are four around the rung's own
}

/** NewUser is a user to make. */
export interface NewUser {
  name: string;
  password: string;
  role: string;
}

/** NodeKind says what a node does. */
export type NodeKind = "decode" | "deinterlace" | "tone" | "scale" | "draw" | "encode" | "measure" | "decode-sound" | "encode-sound" | "measure-sound";

/** NodeStatus is what one part of a worker's graph takes, over the last seconds. */
export interface NodeStatus {
  kind: NodeKind;
  rendition?: string; // that it works for alone
  micros: number; // microseconds a picture, or a frame of sound
  load: number; // thousandths of real time
}

/** NowPlaying is what a channel says of its programme, as timed metadata in the media itself. */
export interface NowPlaying {
  title: string;
  artist?: string;
  picture?: string; // cover: JPEG or PNG
}

/** Outlook is whether a ladder is likely to keep up. */
export interface Outlook {
  keepsUp: boolean;
  text: string;
  loads: RungLoad[]; // Loads are what each encoded rung is likely to take, in thousandths of a processor.
  more: number; // than now, thousandths of a processor; less than 0 is less
  room: number; // thousandths of a processor; less than 0 when not known
}

/** Outputs is what a channel offers beside its usual addresses. */
export interface Outputs {
  ts?: boolean; // TS offers segments in MPEG-2 transport streams too, and sound in packed audio.
  selections?: Selection[];
}

/** PIDHealth is what is measured of one PID. */
export interface PIDHealth {
  pid: number;
  label: string;
  programme?: number;
  bitrate: number; // bits per second
  continuity: number;
  scrambled?: boolean;
}

/** Packaging is how a channel's media is cut and described. */
export interface Packaging {
  segmentMillis: number; // nominal
  partMillis: number; // nominal
  window: number;
  startOffsetMillis?: number; // StartOffsetMillis tells players where to begin, so long before the end; 0 leaves it to them.
  aligned?: boolean; // Aligned cuts at even steps of the wall clock and numbers segments by it, so that two origins with the same source make the same segments. It takes effect with the next feed.
  partFiles?: boolean; // PartFiles gives each part an address of its own. Without it parts are byte ranges of their segment: one object for all protocols in every cache.
  numbered?: boolean; // Numbered makes the manifest count segments of even length instead of listing their times.
  soundName?: string; // of the audio, for menus
  language?: string; // RFC 5646
  unpackaged?: boolean; // Unpackaged makes nothing of the feed: it is only handed on as it came.
  coverEvery?: number; // CoverEvery puts the cover picture into every Nth segment; 0 is 5.
}

/** Picture is what is done to a rung's pictures, in this order: cropped, turned, scaled, padded, and drawn upon. */
export interface Picture {
  crop?: Crop;
  rotate?: number;
  filter?: Filter;
  pad?: boolean; // Pad keeps the source's shape within the rung's width and height, with black bars.
  logo?: Logo;
  label?: boolean;
  clock?: Clock;
}

/** Place is where something lies on a picture. */
export type Place = "" | "top-left" | "bottom-left" | "bottom-right" | "centre";

/** Plan is a named ladder that channels use. A changed plan is a new version: what uses an earlier one goes on with it. It is a file as it stands here, in JSON. */
export interface Plan {
  format: string; // PlanFormat
  name: string;
  version: number; // from 1; 0 in a file that has none yet
  title?: string;
  builtIn?: boolean; // it comes with the program and does not change
  created?: string;
  author?: string; // user who stored it
  governor?: Governor;
  interlaced?: Interlaced;
  rungs: Rung[];
}

/** PlanInUse is a ladder plan and the channels that use it. */
export interface PlanInUse {
  format: string; // PlanFormat
  name: string;
  version: number; // from 1; 0 in a file that has none yet
  title?: string;
  builtIn?: boolean; // it comes with the program and does not change
  created?: string;
  author?: string; // user who stored it
  governor?: Governor;
  interlaced?: Interlaced;
  rungs: Rung[];
  channels: PlanUse[];
}

/** PlanUse is a channel that uses a version of a plan. */
export interface PlanUse {
  channel: string;
  version: number;
}

/** Point is what came of a candidate. */
export interface Point {
  codec: Codec;
  width: number;
  height: number;
  effort: number;
  asked: number; // bits per second
  bitrate: number; // that it took, bits per second
  psnr: number; // of luma, hundredths of a decibel
  ssim: number; // of luma, ten-thousandths
  micros: number; // processor time of a picture
  load: number; // thousandths of a processor, at the source's rate
}

/** Problem is one thing wrong with a setting, in words for the person who wrote it. */
export interface Problem {
  field: string; // such as rungs[2].bitrate
  text: string;
}

/** Programme is one programme of a transport stream. */
export interface Programme {
  number: number;
  name?: string; // of its service
  provider?: string; // of its service
  scrambled?: boolean;
  tracks: StreamTrack[];
}

/** Progress is what is known of a relay that is on. */
export interface Progress {
  name: string;
  state: string;
  text: string; // the state in words
  since: string; // of the state
  attempts: number; // since it was turned on
  bytes: number; // sent
  units: number; // pictures and frames of sound that were sent
  lost: number; // that were left out since the far end was slow
  bitrate: number; // bits in the newest second
  error?: string; // the newest failure
  failed?: string;
  behindMillis?: number; // BehindMillis is by how much what is sent is late, since the far end takes it too slowly, or not at all; 0: it keeps up.
  behindSince?: string;
  curve?: number[]; // bits in each of the last seconds, five minutes at most
}

/** Public is what a viewer's page may know of a channel. */
export interface Public {
  title: string;
  state: State;
  rungs?: string[]; // that can be chosen now
  ended?: string; // Ended is when the last sender left, while there is none.
  starts?: string; // Starts says in words when a channel that has nothing to play yet is likely to begin.
  extras?: Record<string, string>; // Extras is what the sender says of itself, as it came: texts that pages of its maker understand.
  oldest?: string; // Oldest is how far back viewers may go; nil of a channel without a time-shift.
  markers?: PublicMarker[]; // Markers are those of the time-shift, the oldest first.
}

/** PublicMarker is a moment of a channel with something to say of it. */
export interface PublicMarker {
  id: string;
  at: string;
  text: string;
}

/** Quarantine is what is kept of a channel though nobody has decided about it. */
export interface Quarantine {
  channel: string;
  why: string;
  bundles: number;
  bytes: number;
  oldest: string;
  newest: string;
}

/** RTP is what is counted of RTP (RFC 3550, 6.4.1). */
export interface RTP {
  packets: number;
  lost: number;
  late: number; // came when they were given up
  reordered: number; // came in another order, and were put right
  jitter: number; // microseconds
  other: number; // packets of other streams, such as those of forward error correction
}

/** Rational is an exact fraction. Den is never 0 in a valid value. */
export interface Rational {
  num: number;
  den: number;
}

/** ReceiverAddress is where a receiver of a protocol fetches a channel. */
export interface ReceiverAddress {
  protocol: string;
  way: string; // as viewers are counted by
  url: string; // in which {rung} stands for a rung's name
  source: string; // what stands there for the source as it came
  hint: string;
}

/** Recording is a recording, what there is of it, and where it is played. */
export interface Recording {
  id: number;
  name: string; // in addresses; it cannot be guessed
  channel: string;
  title: string;
  kind: string; // ByHand or Continuous
  renditions: string[]; // none: all
  begun: string;
  ended?: string; // it goes on while this is not there
  expires?: string; // it is retained forever when this is not there
  author?: string;
  state: RecordingState;
  kept: string[]; // the renditions that there are
  missing?: number; // bytes of it that are not in the store any more, or not as they were written
  bytes: number;
  hls: string;
  dash: string;
  mp4?: string; // of the best rendition, as one file
}

/** RecordingChange changes what is said of a recording; what is left out stays. */
export interface RecordingChange {
  title?: string;
  days?: number; // from now on; 0 forever
}

/** RecordingState says how a recording is. */
export type RecordingState = "planned" | "recording" | "complete" | "empty" | "damaged";

/** Relay is an onward copy of a channel to another server or receiver. */
export interface Relay {
  name: string; // within its channel
  address: string; // Address of the far end, of a scheme that package address has for relays.
  secret?: string; // Secret is what the far end asks for: the stream's name of RTMP, the password of RTSP, the passphrase of SRT, the token of WHIP, or parameters of the address as in passphrase=…&streamid=…. It is never shown.
  rung?: string; // "" is the source as it came
  sound?: string; // a rendition of sound, "" is that of the rung
  whole?: boolean; // the sender's whole transport stream, untouched
  programmes?: CarriedProgramme[]; // Programmes are those of other channels that go in the same transport stream, over udp, rtp and srt; Number is that of the channel's own, 0 is 1.
  number?: number;
  off?: boolean; // it is not to send
  from?: string; // From and Until are when it sends, if it does; the zero time is no bound.
  until?: string;
}

/** RelayTest is what a far end says when it is tried. */
export interface RelayTest {
  takes: boolean;
  text: string;
}

/** RenditionStatus is one rendition. */
export interface RenditionStatus {
  name: string;
  kind: string;
  codec: string;
  width?: number;
  height?: number;
  frameRate?: number; // thousandths
  peak: number;
  average: number;
  segments: number;
  first: number;
  last: number;
  asked?: number; // bits per second that the rung asks for on average; 0 of what passes through
  askedPeak?: number; // and at most
  second: number; // bits of the last second of media
  segment: number; // bits per second of the newest whole segment
  buffer?: number; // bits per second over the last media of the rung's buffer's length; 0 of what passes through
  psnr?: number; // hundredths of a decibel, in the newest sample; 0 before there is one
  ssim?: number; // ten-thousandths, in the same
  lost: number; // access units without a place
  retired?: boolean;
  ready?: boolean; // the sender makes it, and it is not encoded here
  codingMillis?: number; // CodingMillis is how long a picture takes on average from its arrival until it comes back encoded.
}

/** Report is the result. */
export interface Report {
  address: string;
  protocol: string; // "HLS", "low-latency HLS", "DASH", "low-latency DASH"
  live: boolean;
  seconds: number; // how long it was followed
  streams: Stream[];
  findings: Finding[];
  skew: number; // largest distance of audio and video starts, milliseconds; -1 when not known
  verdict: string;
  broken: number;
  risks: number;
}

/** Role says what a track is for (ISO/IEC 23009-1, 5.8.5.5); "" is taken for main. */
export type Role = "main" | "alternate" | "commentary" | "description";

/** Rung is one line of a ladder: the plan of one rendition. One without a size and with a bitrate of sound is of sound alone. A setting with a flag is one of the CLI too, with the help text beside it. */
export interface Rung {
  name: string; // part of the rendition's address
  on: boolean; // false: kept in the ladder, not made
  source?: boolean;
  ready?: boolean; // Ready takes the sender's own picture of this size where it sends one beside the main one, as a ready-made rung.
  width?: number; // luma samples
  height?: number; // luma samples
  bitrate?: number;
  peak?: number;
  buffer?: number;
  effort?: number;
  quality?: number; // 0 keeps to the bitrate
  codec?: Codec; // Codec of the pictures, one that the workers encode; "" is the usual one, which every player reads.
  profile?: string;
  level?: string;
  bFrames?: number; // BFrames are pictures that refer to later ones, so many between two others: they save bits and cost delay. 0 is as the effort says, -1 is none.
  content?: Content;
  frameRate?: string; // FrameRate is "" for the source's, "half" for every second picture, or pictures per second, such as 25, 29.97 or 30000/1001: then they stand at even times. It is never more than the source's.
  picture?: Picture;
  audioBitrate?: number; // AudioBitrate asks for sound that is re-encoded, at bits per second; 0 passes the source's audio through.
  audioCodec?: Codec;
  audioChannels?: number;
  audioTrack?: number; // AudioTrack is the track of the source's sound that the rung has, from 1; 0 is the main one.
  audioLanguage?: string; // AudioLanguage is what is told of the language of sound that is encoded, instead of what the sender says (RFC 5646).
  audioRate?: number;
  loudness?: number; // Loudness is what that sound is brought to, in LUFS (EBU R 128), such as -23; 0 leaves it as it is. Its true peaks are limited to -1 dB.
}

/** RungLoad is what a rung is likely to take. */
export interface RungLoad {
  rung: string;
  load: number;
}

/** SRT is what libsrt counts of a connection. */
export interface SRT {
  rtt: number; // microseconds
  latency: number; // milliseconds that both ends agreed on
  received: number; // packets
  lost: number;
  retransmitted: number;
  dropped: number; // too late to be played
  undecrypted: number;
  buffer: number; // milliseconds of media that wait for their time
  bandwidth: number; // bits per second, what the line is taken for
  bitrate: number; // bits per second
  encrypted: boolean;
  version?: string; // of the other side
  advice?: string; // on the latency
}

/** Selection is a choice of rungs with addresses of its own. */
export interface Selection {
  name: string; // part of its addresses
  rungs?: string[]; // by name; none with SoundOnly
  soundOnly?: boolean;
}

/** SelectionAddresses are where a named selection of rungs plays. */
export interface SelectionAddresses {
  name: string;
  hls: string;
  dash: string;
  lowDash: string;
}

/** SenderAddress is what an encoder of a protocol asks for in its fields. */
export interface SenderAddress {
  protocol: string;
  server: string;
  key: string; // or stream name, or stream id
  url: string; // for encoders with one field
  hint: string;
}

/** ServiceProblem is something wrong with the service itself. */
export interface ServiceProblem {
  what: string; // database, records or disk
  text: string;
  do: string;
  since: string;
}

/** Settings are what the engineer says about a channel, in groups. Each setting is declared here alone: the API's document, the console's types and the CLI's flags are made from it. A flag of the CLI is named by its tag, with a help text for it. */
export interface Settings {
  slug: string;
  title: string;
  inputs?: Input[]; // none is a sender alone
  ladder: Ladder;
  packaging: Packaging;
  outputs: Outputs;
  access: Access;
  switching: Switching;
  keeping: Keeping;
  relays?: Relay[]; // Relays carry the channel onward to other servers and receivers.
}

/** SignIn asks for a session. */
export interface SignIn {
  user: string;
  password: string;
}

/** Socket is what comes over UDP. */
export interface Socket {
  packets: number;
  buffer: number; // bytes that the system's buffer holds
  overruns: number; // packets that found it full
}

/** Source is what somebody on the network offers. */
export interface Source {
  id: string; // stays the same while the source is announced
  name: string; // as its announcement has it
  via: string; // "SAP" or "DNS-SD"
  from: string; // address of who announces it
  interface: string;
  tracks: SourceTrack[];
  bitrate: number; // bits per second on the network, 0 when it does not say
  heard: string; // when it was announced last
  quiet: boolean; // it is not announced any more as often as it was
  problem?: string;
}

/** SourceTrack is a stream of a source. */
export interface SourceTrack {
  kind: number;
  text: string; // for people, such as raw video, 1280x720, 30/s, 8 bits
  bitrate: number;
}

/** State says how a channel is, in one word. */
export type State = "waiting" | "starting" | "live" | "degraded" | "failed";

/** Statistic is what a channel did over a while. */
export interface Statistic {
  channel: string;
  seconds: number; // how long the while is
  at: number; // when it begins, seconds since 1970
  live: number; // seconds that a feed was on air
  bitrate: number; // of the feed, bits per second, on average
  load: number;
  viewers: number; // thousandths of one, on average
  peak: number; // the most viewers
}

/** Status is a channel at a glance. */
export interface Status {
  slug: string;
  title: string;
  state: State;
  problems: Problem[];
  inputs: InputStatus[]; // the preferred one first
  feed?: FeedStatus;
  lastFeed?: LastFeed; // how the one before ended, while there is none
  renditions: RenditionStatus[];
  rungs: Rung[]; // in force
  worker?: WorkerStatus;
  governor?: GovernorStatus; // nil of a ladder that is left as it is
  advice?: Record<string, number>; // the effort that there is room for, by rung; none while it is not known
  viewers?: Record<string, number>; // by protocol
  relays?: Progress[]; // that are on
  kept?: Stock; // what is kept; nil of a channel that keeps nothing
  partTarget: number; // milliseconds, 0 before the first feed
  memory: number; // bytes of segments held
  memoryBound: number; // bytes that the settings allow
  pictureAt: number; // milliseconds since 1970, 0 without one
}

/** Step is one change to one rung. */
export interface Step {
  rung: string;
  kind: Kind;
  from?: number; // effort
  to?: number; // effort
}

/** Stock says how the keeping of a channel is. */
export interface Stock {
  oldest?: string; // of what is kept
  bytes: number; // of it
  held?: number; // of that for recordings
  waiting: number; // bytes that are not written yet
  lost?: number; // segments that could not be kept since the start
  written: number; // bytes since the start
  daily: number; // bytes a day at the pace of the last hours
  error?: string; // why nothing can be written now
  since?: string; // when that began
  lostNow?: number; // segments lost since then
  full?: string; // why a limit cannot be kept
  away?: string; // why the object store takes nothing now; what is kept waits in a local folder
  missing?: number; // bytes that are to be kept and are not in the place, or not whole
  loading?: boolean; // what there is is still being looked through after a start
}

/** Store says where what is kept lies, and what is there that nobody has decided about. */
export interface Store {
  place: string; // without secrets
  quarantine: Quarantine[]; // what stays until somebody removes or adopts it
  deletions: number; // files that wait to be removed
  deletionError?: string; // DeletionError is why they cannot be removed now.
}

/** Stream is what was seen of one rendition. Times are milliseconds, nil when not known. */
export interface Stream {
  name: string;
  kind: string; // video, audio, or "" before a header was seen
  codec?: string;
  size?: string;
  loads: number; // of its playlist
  segments: number;
  parts: number;
  announced: number; // bits per second
  peak: number; // of whole segments
  edge?: number; // from the end of the playlist's media to the clock, median
  fetch?: number; // from asking for a segment or part to its last byte, median
  aim: number; // how far behind the end a player stays, 0 when nothing tells
  behind?: number; // edge and aim together
}

/** StreamHealth counts what ETSI TR 101 290, 5.2, asks to watch in its first two priorities, and measures what goes with it. Counters only rise; the rest is of the last whole second, or of the longest interval lately. */
export interface StreamHealth {
  syncLoss: number; // First priority: the stream cannot be read. 1.1
  syncByte: number; // 1.2
  pat: number; // 1.3: later than 0.5 s, or another table in its place
  continuity: number; // 1.4
  pmt: number; // 1.5: later than 0.5 s
  pid: number; // 1.6: a track of a programme of which nothing comes
  transport: number; // Second priority. 2.1: marked as broken by a receiver before us
  crc: number; // 2.2
  pcrRepetition: number; // 2.3a: later than 100 ms
  pcrDiscontinuity: number; // 2.3b: a jump that is not announced
  pcrAccuracy: number; // 2.4: more than 500 ns beside the place in the stream
  pts: number; // 2.5: later than 700 ms
  cat: number; // 2.6: scrambled without a conditional access table
  bitrate: number; // bits per second
  nullBitrate: number; // of it, stuffing
  patInterval: number; // milliseconds, the longest of the last seconds
  pmtInterval: number;
  pcrInterval: number;
  jitter: number; // how far PCRs come from when they are due, at most, in microseconds
  accuracy: number; // how far PCRs lie from their place in the stream, at most, in nanoseconds; -1: not known, the rate varies
  pids?: PIDHealth[];
}

/** StreamTrack is an elementary stream of a programme. */
export interface StreamTrack {
  pid: number;
  type: number; // stream_type
  codec?: Codec; // "" of what is not known
  label: string; // for people
  kind?: number;
  language?: string; // ISO 639-2
  role?: Role;
}

/** Studio is what is on the studio's network. */
export interface Studio {
  on: boolean; // the service looks at it
  sources: Source[];
  wrong: string[]; // what keeps it from being heard
}

/** Switching is when another live input takes over though something comes of the one on air. 0 is never: it is only told. */
export interface Switching {
  frozenSeconds?: number;
  blackSeconds?: number;
  lossySeconds?: number;
  silentSeconds?: number;
}

/** TimelineRow is the window of one rendition, for a picture of it. Times are milliseconds since 1970 on the channel's wall clock. */
export interface TimelineRow {
  rendition: string;
  kind: string;
  segments: TimelineSegment[];
}

/** TimelineSegment is one segment with its parts. */
export interface TimelineSegment {
  msn: number;
  start: number;
  duration: number; // milliseconds; of the parts so far while open
  open?: boolean;
  gap?: boolean;
  discontinuity?: boolean;
  bytes: number;
  parts: number[]; // durations in milliseconds
}

/** Token is a client's token. Its secret is told once, when it is made. */
export interface Token {
  id: number;
  label: string;
  user: string;
  role: string;
  created: string;
  expires?: string;
  secret?: string;
}

/** Track describes one elementary stream. Config is the decoder configuration of the codec as it lies in its box of an ISO media file, such as an AVCDecoderConfigurationRecord (ISO/IEC 14496-15, 5.3.3.1); of AAC it is the AudioSpecificConfig (ISO/IEC 14496-3, 1.6.2.1). */
export interface Track {
  id?: number;
  language?: string; // RFC 5646; "" when the sender does not say
  role?: Role;
  name?: string; // for people
  kind: number;
  codec: Codec;
  label?: string; // what people call the codec
  codecName?: string; // RFC 6381 name, such as avc1.64001f
  timescale: number; // ticks a second of all times of this track
  config: string;
  width?: number; // Video. luma samples after cropping
  height?: number; // luma samples after cropping
  sar?: Rational; // sample aspect ratio, 1:1 when unknown
  frameRate?: Rational; // frames per second; invalid when unknown
  colour?: Colour;
  interlaced?: boolean; // Interlaced: pictures hold two fields, as far as the configuration tells.
  light?: Light; // of pictures with a high dynamic range, when the sender tells
  undecodable?: string; // Undecodable says why no decoder here reads the track, in words; "" when one does. It passes through all the same.
  onlyCoded?: boolean; // nothing packages it as it is: it is re-encoded
  frameSamples?: number; // Audio. ticks that a frame lasts
  sampleRate?: number; // samples per second of the output
  channels?: number;
}

/** Trial is what came of a trial so far. */
export interface Trial {
  rung?: string; // that it is of; "" is the whole ladder
  state: TrialState;
  text?: string; // why it failed
  begun: string;
  done: number;
  of: number;
  points: Point[];
  hull?: Measured[]; // what is worth its bits
  proposed?: Rung[]; // a ladder along the hull
}

/** TrialState says how a trial is. */
export type TrialState = "running" | "done" | "stopped" | "failed";

/** Use is how a ladder uses a plan. */
export interface Use {
  name: string;
  version: number; // 0 asks for the newest
  own?: string[]; // Own are the rungs that the channel has otherwise than the plan, or beside it.
}

/** User is somebody who may sign in. */
export interface User {
  name: string;
  role: string;
  created: string;
}

/** Verification says how what is kept of a stretch was found. */
export interface Verification {
  bundles: number;
  segments: number;
  bytes: number; // of media that were read and are right
  missing: string[]; // files that are not in the place
  damaged: string[]; // files whose bytes are others than were written
  unread?: Record<string, string>; // Unread are files that cannot be read now, and why not.
}

/** WorkerStatus is the load of a channel's worker. */
export interface WorkerStatus {
  pid: number;
  load: number; // thousandths of real time that the busiest stage takes; above 1000 it does not keep up
  cpu: number; // thousandths of one core
  lag: number;
  dropped: number; // pictures left out since the feed began
  dropping: number; // thousandths of all pictures, over the last seconds
  skipped: number;
  replaced: number;
  lost: number; // units that the worker did not take
  nodes: NodeStatus[]; // Nodes are the parts of the graph, in the order in which media goes through them.
  loudness?: Loudness; // Loudness is that of the source's sound, nil while none is decoded.
  levels?: Leveled[]; // Levels are those of renditions that are brought to a loudness.
}
