/** Bytes that the Web Cryptography API takes. */
export type Bytes = Uint8Array<ArrayBuffer>;

const encoder = new TextEncoder();

export const bytesOf = (text: string): Bytes => encoder.encode(text);

export const textOf = (bytes: Uint8Array) => new TextDecoder("utf-8", { fatal: true }).decode(bytes);

export function joined(...parts: Uint8Array[]): Bytes {
  const out = new Uint8Array(parts.reduce((n, p) => n + p.length, 0));
  let at = 0;
  for (const p of parts) {
    out.set(p, at);
    at += p.length;
  }
  return out;
}

export function equal(a: Uint8Array, b: Uint8Array): boolean {
  if (a.length !== b.length) return false;
  let differ = 0;
  for (let i = 0; i < a.length; i++) differ |= a[i]! ^ b[i]!;
  return differ === 0;
}

export const fromBase64 = (text: string): Bytes =>
  Uint8Array.from(atob(text.replace(/\s/g, "")), (c) => c.charCodeAt(0));

export function toBase64(bytes: Uint8Array): string {
  let out = "";
  for (let at = 0; at < bytes.length; at += 0x8000) {
    out += String.fromCharCode(...bytes.subarray(at, at + 0x8000));
  }
  return btoa(out);
}

/** Base64 as in JSON Web Keys (RFC 7515 section 2): the URL alphabet, no padding. */
export const toBase64URL = (bytes: Uint8Array) =>
  toBase64(bytes).replace(/\+/g, "-").replace(/\//g, "_").replace(/=+$/, "");

export const fromBase64URL = (text: string) => fromBase64(text.replace(/-/g, "+").replace(/_/g, "/"));

export const uint32 = (n: number): Bytes => new Uint8Array([n >>> 24, n >>> 16, n >>> 8, n]);

/** A string of RFC 4251 section 5: its length, then its bytes. */
export function string(of: Uint8Array | string): Bytes {
  const body = typeof of === "string" ? bytesOf(of) : of;
  return joined(uint32(body.length), body);
}

/** The bytes of an unsigned number without zeros in front. */
export function trimmed(number: Uint8Array): Uint8Array {
  let from = 0;
  while (from < number.length && number[from] === 0) from++;
  return number.subarray(from);
}

/** A multiple precision integer of RFC 4251 section 5, of an unsigned number. */
export function mpint(number: Uint8Array): Bytes {
  const body = trimmed(number);
  return string(body.length > 0 && body[0]! > 127 ? joined(new Uint8Array(1), body) : body);
}

/** Reads what RFC 4251 section 5 describes; each read throws a RangeError where the bytes are cut short. */
export class Reader {
  private at = 0;

  constructor(private readonly bytes: Uint8Array) {}

  take(n: number): Bytes {
    const end = this.at + n;
    if (n < 0 || end > this.bytes.length) throw new RangeError("cut short");
    const out = this.bytes.slice(this.at, end);
    this.at = end;
    return out;
  }

  byte(): number {
    return this.take(1)[0]!;
  }

  uint32(): number {
    return new DataView(this.take(4).buffer).getUint32(0);
  }

  string(): Bytes {
    return this.take(this.uint32());
  }

  text(): string {
    return textOf(this.string());
  }

  rest(): Bytes {
    return this.take(this.bytes.length - this.at);
  }

  get over(): boolean {
    return this.at === this.bytes.length;
  }
}
