/** When a demo camera sent its pictures. All times are milliseconds. */
export interface CameraClock {
  began: number; // since 1970: the start of the first turn of the loop
  length: number; // of one turn
  sent: number[]; // of each picture, by its number, from the start of the turn
}

/** cameraClock reads the clock of a demo camera from what a sender says of itself. */
export function cameraClock(extras?: Record<string, string>): CameraClock | undefined {
  try {
    const c = JSON.parse(extras?.["x-camera-clock"] ?? "null") as CameraClock | null;
    return c && Array.isArray(c.sent) && c.length > 0 ? c : undefined;
  } catch {
    return undefined; // another sender's
  }
}

/** The block code of a demo picture is a strip of 16 cells near its lower edge: light, dark, twelve
 * bits of the picture's number, a parity bit, and light again. */
export function readNumber(cells: number[]): number | undefined {
  const middle = (cells[0] + cells[15] + 2 * cells[1]) / 4;
  if (cells[0] - cells[1] < 60) return undefined;
  let number = 0;
  let parity = 0;
  for (let i = 2; i <= 14; i++) {
    const bit = cells[i] > middle ? 1 : 0;
    parity ^= bit;
    if (i < 14) number = number * 2 + bit;
  }
  return parity === 0 ? number : undefined;
}

/** delayOf returns how long after its sending a picture was shown at a time; undefined when the
 * picture is none of this camera's. */
export function delayOf(number: number, shown: number, c: CameraClock): number | undefined {
  const sent = c.sent[number];
  if (sent === undefined || c.length <= 0 || shown < c.began) return undefined;
  return (shown - c.began - sent + c.length) % c.length;
}

export interface Spread {
  median: number;
  p95: number;
  count: number;
}

export function spread(values: number[]): Spread {
  const s = [...values].sort((a, b) => a - b);
  const at = (q: number) => s[Math.min(s.length - 1, Math.floor(s.length * q))] ?? NaN;
  return { median: at(0.5), p95: at(0.95), count: s.length };
}

const width = 320;
const height = 180;
const side = Math.floor((width * 8) / 10 / 16);
const kept = 300; // pictures

/** Meter reads the numbers of the pictures that a video shows and measures their delay. */
export class Meter {
  readonly #video: HTMLVideoElement;
  readonly #canvas: CanvasRenderingContext2D | null;
  #values: number[] = [];
  #all: number[] = [];
  #closed = false;
  #turn = 0;
  constructor(
    video: HTMLVideoElement,
    private readonly clock: () => CameraClock | undefined,
    private readonly every = 3, // so that looking takes little of the processor
  ) {
    this.#video = video;
    const canvas = document.createElement("canvas");
    canvas.width = width;
    canvas.height = height;
    this.#canvas = canvas.getContext("2d", { willReadFrequently: true });
    video.requestVideoFrameCallback?.(this.#look);
  }
  readonly #look = (now: number, m: VideoFrameCallbackMetadata) => {
    if (this.#closed) return;
    const c = this.clock();
    // A page that was late draws a later picture than the one that it was called for.
    const late = performance.now() > m.expectedDisplayTime + 12;
    if (c && !late && this.#turn++ % this.every === 0) {
      const number = this.#read();
      const shown = performance.timeOrigin + Math.max(now, m.expectedDisplayTime);
      const d = number === undefined ? undefined : delayOf(number, shown, c);
      if (d !== undefined) {
        this.#values.push(d);
        this.#all.push(d);
        if (this.#values.length > kept) this.#values.shift();
        if (this.#all.length > 100_000) this.#all.shift();
      }
    }
    this.#video.requestVideoFrameCallback(this.#look);
  };
  #read(): number | undefined {
    const g = this.#canvas;
    if (!g) return undefined;
    g.drawImage(this.#video, 0, 0, width, height);
    const strip = g.getImageData(0, height - 2 * side, width, side).data;
    const cells: number[] = [];
    for (let i = 0; i < 16; i++) {
      let sum = 0;
      let n = 0;
      for (let y = Math.floor(side / 3); y <= (side * 2) / 3; y++)
        for (let x = Math.floor(side / 3); x <= (side * 2) / 3; x++, n++)
          sum += strip[4 * (y * width + width / 10 + i * side + x) + 1];
      cells.push(sum / n);
    }
    return readNumber(cells);
  }
  /** recent is the spread of the last pictures; all of every one since begin. */
  recent(): Spread {
    return spread(this.#values.slice(-40));
  }
  all(): number[] {
    return this.#all;
  }
  restart() {
    this.#values = [];
    this.#all = [];
  }
  close() {
    this.#closed = true;
  }
}
