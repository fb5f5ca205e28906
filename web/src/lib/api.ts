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
  if (!res.ok)
    throw new Refused(
      res.status,
      answer.error ?? `The service answered ${res.status}.`,
      answer.do,
      answer.problems,
    );
  return answer as T;
}
