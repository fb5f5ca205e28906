/** bitrate writes bits a second for people. */
export function bitrate(bits: number | undefined): string {
  if (!bits) return "–";
  if (bits < 1_000_000) return `${Math.round(bits / 1000)} kbit/s`;
  return `${(bits / 1_000_000).toFixed(bits < 100_000_000 ? 2 : 0)} Mbit/s`;
}

/** frames writes thousandths of a frame a second. */
export function frames(milli: number | undefined): string {
  if (!milli) return "–";
  return `${(milli / 1000).toFixed(2)} fps`;
}

/** percent writes thousandths as per cent. */
export function percent(thousandths: number | undefined): string {
  return thousandths === undefined ? "–" : `${Math.round(thousandths / 10)} %`;
}

/** megabytes writes bytes. */
export function megabytes(bytes: number): string {
  return `${(bytes / 1e6).toFixed(1)} MB`;
}

/** ago writes how long a time has passed, in the largest unit that fits. */
export function ago(from: string, now: number): string {
  const s = Math.max(0, Math.round((now - Date.parse(from)) / 1000));
  if (s < 60) return `${s} s`;
  if (s < 3600) return `${Math.floor(s / 60)} min`;
  if (s < 86400) return `${Math.floor(s / 3600)} h ${Math.floor((s % 3600) / 60)} min`;
  return `${Math.floor(s / 86400)} d`;
}

/** clock writes the time of day. */
export function clock(at: string): string {
  return new Date(at).toLocaleTimeString([], { hour12: false });
}

/** behind writes a delay in seconds. */
export function behind(seconds: number): string {
  return Number.isFinite(seconds) ? `${seconds.toFixed(1)} s` : "–";
}

/** kilobits writes bits a second in thousands, for columns that say so. */
export function kilobits(bits: number | undefined): string {
  return bits ? String(Math.round(bits / 1000)) : "–";
}

/** level writes hundredths of a decibel in a unit; what is below hearing is silence. */
export function level(hundredths: number | undefined, unit: string): string {
  if (hundredths === undefined) return "–";
  return hundredths <= -7000 ? "silence" : `${(hundredths / 100).toFixed(1).replace("-", "−")} ${unit}`;
}

/** isoTime writes milliseconds since 1970 as RFC 3339. */
export function isoTime(ms: number): string {
  return new Date(ms).toISOString();
}

/** bytes writes a size in the largest unit that fits. */
export function bytes(n: number): string {
  const units = ["B", "kB", "MB", "GB", "TB"];
  let i = 0;
  for (; n >= 1000 && i < units.length - 1; i++) n /= 1000;
  return `${i && n < 100 ? n.toFixed(1) : Math.round(n)} ${units[i]}`;
}

/** span writes how long something lasts, in seconds. */
export function span(seconds: number): string {
  const s = Math.round(seconds);
  if (s < 60) return `${s} s`;
  if (s < 3600) return `${Math.floor(s / 60)} min${s % 60 ? ` ${s % 60} s` : ""}`;
  if (s < 86400)
    return `${Math.floor(s / 3600)} h${Math.floor((s % 3600) / 60) ? ` ${Math.floor((s % 3600) / 60)} min` : ""}`;
  return `${Math.floor(s / 86400)} d${Math.floor((s % 86400) / 3600) ? ` ${Math.floor((s % 86400) / 3600)} h` : ""}`;
}

/** day writes the day of a time behind it, nothing when it is today. */
export function day(at: string, now = Date.now()): string {
  const d = new Date(at);
  return d.toDateString() === new Date(now).toDateString() ? "" : `, ${d.toLocaleDateString()}`;
}

/** elapsed writes seconds as minutes and seconds, such as 12:05. */
export const elapsed = (s: number) => `${Math.floor(s / 60)}:${String(Math.floor(s % 60)).padStart(2, "0")}`;

/** share keeps a number between 0 and 1. */
export const share = (v: number) => Math.max(0, Math.min(1, v));
