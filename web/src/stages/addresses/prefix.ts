/** A range of addresses, for placing it on a ruler. */
export interface Range {
  v6: boolean;
  start: bigint;
  size: bigint;
  bits: number;
}

/** Reads a prefix that the server wrote. */
export function rangeOf(prefix: string): Range {
  const [address = "", length = "0"] = prefix.split("/");
  const v6 = address.includes(":");
  const bits = Number(length);
  const start = v6 ? six(address) : four(address);
  return { v6, start, size: 1n << BigInt((v6 ? 128 : 32) - bits), bits };
}

const four = (address: string) => address.split(".").reduce((n, part) => n * 256n + BigInt(part), 0n);

function six(address: string): bigint {
  const [head = "", tail] = address.split("::");
  const words = (text: string) => text.split(":").filter(Boolean);
  const first = words(head);
  const last = tail === undefined ? [] : words(tail);
  const zeros = tail === undefined ? 0 : 8 - first.length - last.length;
  return [...first, ...Array<string>(zeros).fill("0"), ...last].reduce(
    (n, word) => n * 65536n + BigInt(`0x${word}`),
    0n,
  );
}

/** Writes a prefix as the server does (RFC 5952): of IPv6, the first of the longest runs of zeros is left out. */
export function written(v6: boolean, start: bigint, bits: number): string {
  if (!v6) {
    const parts = [24n, 16n, 8n, 0n].map((shift) => (start >> shift) & 255n);
    return `${parts.join(".")}/${bits}`;
  }
  const words = Array.from({ length: 8 }, (_, i) => (start >> BigInt(16 * (7 - i))) & 0xffffn);
  let run = { from: 0, length: 1 }; // one word alone is written
  for (let from = 0; from < 8; from++) {
    let length = 0;
    while (words[from + length] === 0n) {
      length++;
    }
    if (length > run.length) {
      run = { from, length };
    }
  }
  const text = (some: bigint[]) => some.map((w) => w.toString(16)).join(":");
  return run.length > 1
    ? `${text(words.slice(0, run.from))}::${text(words.slice(run.from + run.length))}/${bits}`
    : `${text(words)}/${bits}`;
}

export const holds = (a: Range, b: Range) =>
  a.v6 === b.v6 && a.start <= b.start && b.start + b.size <= a.start + a.size;

export const meets = (a: Range, b: Range) =>
  a.v6 === b.v6 && a.start < b.start + b.size && b.start < a.start + a.size;

/** How far into a range something begins, and how much of it it takes, from 0 to 1. */
export function share(outer: Range, inner: Range): { from: number; width: number } {
  const part = (n: bigint) => Number((n * 1_000_000n) / outer.size) / 1_000_000;
  const start = inner.start > outer.start ? inner.start - outer.start : 0n;
  const end = inner.start + inner.size - outer.start;
  return { from: part(start), width: (end < outer.size ? part(end) : 1) - part(start) };
}
