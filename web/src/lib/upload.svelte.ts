// Files that are sent to the library: by the tus protocol, so that a line that breaks costs nothing but the wait.
import { Refused } from "./api";

export interface Sending {
  name: string;
  size: number;
  sent: number;
  rate: number; // bytes a second
  state: "sending" | "broken" | "done" | "failed";
  error?: unknown;
  stop(): void;
}

/** refusal makes words of an answer that refuses. */
function refusal(err: unknown): unknown {
  const res = (err as { originalResponse?: { getStatus(): number; getBody(): string } | null })
    .originalResponse;
  if (!res)
    return new Refused(0, "The service does not answer.", "The upload goes on by itself when it does.");
  try {
    const body = JSON.parse(res.getBody()) as { error?: string; do?: string };
    return new Refused(res.getStatus(), body.error ?? `The service answered ${res.getStatus()}.`, body.do);
  } catch {
    return new Refused(res.getStatus(), `The service answered ${res.getStatus()}.`);
  }
}

/** Uploads are those of this page, the newest last. */
export class Uploads {
  list = $state<Sending[]>([]);

  async add(files: Iterable<File>, done: () => void) {
    const { Upload } = await import("tus-js-client");
    for (const file of files) {
      let began = performance.now();
      let first = -1;
      const upload = new Upload(file, {
        endpoint: "/api/v1/uploads",
        metadata: { filename: file.name },
        chunkSize: 32 << 20,
        retryDelays: [500, 1000, 2000, 4000, 8000, 15000, 30000, 60000],
        removeFingerprintOnSuccess: true,
        onProgress: (sent) => {
          if (first < 0) [first, began] = [sent, performance.now()];
          const seconds = (performance.now() - began) / 1000;
          this.#set(file, { sent, state: "sending", rate: seconds > 0.5 ? (sent - first) / seconds : 0 });
        },
        onShouldRetry: (err) => {
          const status = err.originalResponse?.getStatus() ?? 0;
          const again = status === 0 || status === 409 || status === 423 || status >= 500;
          if (again) this.#set(file, { state: "broken" });
          return again;
        },
        onError: (err) => this.#set(file, { state: "failed", error: refusal(err) }),
        onSuccess: () => {
          this.#set(file, { sent: file.size, state: "done" });
          done();
        },
      });
      this.list.push({
        name: file.name,
        size: file.size,
        sent: 0,
        rate: 0,
        state: "sending",
        stop: () => {
          void upload.abort(true);
          this.list = this.list.filter((s) => s.name !== file.name);
        },
      });
      const before = await upload.findPreviousUploads();
      if (before.length) upload.resumeFromPreviousUpload(before[0]);
      upload.start();
    }
  }

  #set(file: File, now: Partial<Sending>) {
    const s = this.list.findLast((s) => s.name === file.name);
    if (s) Object.assign(s, now);
  }
}
