import { expect, test } from "vitest";
import { schemeOf } from "./scheme";
import { inputSchemes, relaySchemes } from "./schemes";

test("an address has the scheme of its beginning", () => {
  expect(schemeOf(inputSchemes, " srt://192.0.2.7:7000?latency=300")?.name).toBe("srt");
  expect(schemeOf(inputSchemes, "srt:")?.name).toBe("srt");
  expect(schemeOf(inputSchemes, "sr")).toBeUndefined();
  expect(schemeOf(inputSchemes, "folder://site")).toBeUndefined();
  expect(schemeOf(relaySchemes, "put+https://host/live")?.name).toBe("put+https");
  expect(schemeOf(relaySchemes, "udp://239.1.1.1:5000")?.programmes).toBe(true);
  expect(schemeOf(relaySchemes, "rtmp://host/live/KEY")?.programmes).toBe(false);
});
