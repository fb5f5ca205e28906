import type { Scheme } from "./schemes";

/** schemeOf finds the scheme of an address, while it is being typed too. */
export function schemeOf(list: Scheme[], address: string): Scheme | undefined {
  const name = /^([a-z0-9+]+):/i.exec(address.trim())?.[1]?.toLowerCase();
  return list.find((s) => s.name === name);
}
