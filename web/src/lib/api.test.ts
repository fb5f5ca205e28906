import { afterEach, describe, expect, it, vi } from "vitest";
import { call, Refused } from "./api";

const answer = (status: number, body?: unknown) =>
  vi.stubGlobal(
    "fetch",
    vi.fn(async () => new Response(body === undefined ? null : JSON.stringify(body), { status })),
  );

afterEach(() => vi.unstubAllGlobals());

describe("call", () => {
  it("sends a body as JSON and returns the answer", async () => {
    answer(200, { slug: "start-line" });
    expect(await call("POST", "/channels", { slug: "start-line" })).toEqual({ slug: "start-line" });
    const [path, init] = vi.mocked(fetch).mock.calls[0];
    expect(path).toBe("/api/v1/channels");
    expect(init?.body).toBe('{"slug":"start-line"}');
  });
  it("returns nothing for an empty answer", async () => {
    answer(204);
    expect(await call("DELETE", "/channels/x")).toBeUndefined();
  });
  it("throws what was wrong and what to do", async () => {
    answer(422, {
      error: "the settings were not applied",
      do: "Correct what is listed.",
      problems: [{ field: "rungs[0].height", text: "found 721" }],
    });
    const e = (await call("PUT", "/x", {}).catch((e) => e)) as Refused;
    expect(e).toBeInstanceOf(Refused);
    expect(e.status).toBe(422);
    expect(e.message).toBe("the settings were not applied");
    expect(e.remedy).toBe("Correct what is listed.");
    expect(e.problems[0].field).toBe("rungs[0].height");
  });
  it("says so when nobody answers", async () => {
    vi.stubGlobal("fetch", vi.fn().mockRejectedValue(new TypeError("failed to fetch")));
    await expect(call("GET", "/me")).rejects.toMatchObject({
      status: 0,
      message: "The service does not answer.",
    });
  });
});
