import type { Viewed } from "./play.svelte";
import type { Problem } from "./types";

/** Refused is an answer of the API that says what was wrong and what to do. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    text: string,
    readonly remedy = "",
    readonly problems: Problem[] = [],
  ) {
    super(text);
  }
}

/** call sends one request to the control API and returns its body. */
export async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  let res: Response;
  try {
    res = await fetch(`/api/v1${path}`, {
      method,
      headers: body === undefined ? {} : { "Content-Type": "application/json" },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
  } catch {
    throw new Refused(0, "The service does not answer.", "Check the line to it, then try again.");
  }
  if (res.status === 204) return undefined as T;
  const answer = await res.json().catch(() => ({}));
  if (!res.ok) throw refusal(res.status, answer);
  return answer as T;
}

/** refusal is what an answer that refuses says. */
export function refusal(
  status: number,
  answer: { error?: string; do?: string; problems?: Problem[] },
): Refused {
  return new Refused(status, answer.error ?? `The service answered ${status}.`, answer.do, answer.problems);
}

/** askPublic tells what a viewer's page may know of a channel. */
export async function askPublic(slug: string): Promise<Viewed> {
  const res = await fetch(`/api/v1/public/${slug}`);
  if (res.status === 404) return { title: "", state: "missing" };
  if (!res.ok) return { title: "", state: "silent" };
  return res.json();
}
