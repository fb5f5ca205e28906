// Reads playlists and manifests with parsers that others wrote, and prints what they saw as JSON:
// a second opinion for the whole-service tests on what we write.
//
//   node second-opinion.mjs URL …
import { Parser } from "m3u8-parser";
import { parse } from "mpd-parser";

function playlist(text) {
  const warnings = [];
  const p = new Parser();
  p.on("warn", (w) => warnings.push(w.message));
  p.push(text);
  p.end();
  const m = p.manifest;
  return {
    warnings,
    variants: (m.playlists ?? []).map((v) => ({
      uri: v.uri,
      bandwidth: v.attributes.BANDWIDTH,
      codecs: v.attributes.CODECS,
      audio: v.attributes.AUDIO ?? "",
    })),
    groups: Object.keys(m.mediaGroups?.AUDIO ?? {}),
    targetDuration: m.targetDuration ?? 0,
    partTarget: m.partTargetDuration ?? 0,
    mediaSequence: m.mediaSequence ?? 0,
    discontinuitySequence: m.discontinuitySequence ?? 0,
    durations: (m.segments ?? []).map((s) => s.duration),
    uris: (m.segments ?? []).map((s) => s.uri),
    parts:
      (m.segments ?? []).reduce((n, s) => n + (s.parts?.length ?? 0), 0) +
      (m.preloadSegment?.parts?.length ?? 0),
    hints: m.preloadSegment?.preloadHints?.map((h) => h.uri) ?? [],
    reports: m.renditionReports?.length ?? 0,
    canBlock: m.serverControl?.canBlockReload ?? false,
    skipped: m.skip?.skippedSegments ?? 0,
    ranges: m.dateRanges?.length ?? 0,
    ended: m.endList ?? false,
  };
}

function manifest(text, uri) {
  const warnings = [];
  const m = parse(text, {
    manifestUri: uri,
    clientOffset: 0,
    eventHandler: ({ message }) => warnings.push(message),
  });
  const audio = Object.values(m.mediaGroups.AUDIO.audio ?? {}).flatMap((g) => g.playlists);
  return {
    warnings,
    videos: m.playlists.map((p) => ({
      name: p.attributes.NAME,
      bandwidth: p.attributes.BANDWIDTH,
      segments: p.segments.map((s) => ({ uri: s.resolvedUri, duration: s.duration, number: s.number })),
    })),
    audios: audio.map((p) => ({ name: p.attributes.NAME, segments: p.segments.length })),
    ended: m.endList,
  };
}

const out = {};
for (const uri of process.argv.slice(2)) {
  const text = await (await fetch(uri)).text();
  out[uri] = uri.split("?")[0].endsWith(".mpd") ? manifest(text, uri) : playlist(text);
}
console.log(JSON.stringify(out));
