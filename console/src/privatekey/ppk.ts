import { curveKey, curveOf, edKey, KeyFileError, rsaKey } from "./key";
import { openCBC, type ReadKey } from "./openssh";
import { bytesOf, equal, fromBase64, joined, Reader, string, type Bytes } from "./wire";

// Constants of the format, as bytes; the service has the same.
const magic = "\x50\x75\x54\x54\x59-User-Key-File-";
const macKey = "\x70\x75\x74\x74\x79-private-key-file-mac-key";

/** What the service refuses as well: Argon2 memory in KiB, and memory times passes. */
const mostMemory = 1 << 18;
const mostWork = 1 << 20;

export const isPPK = (text: string) => text.trimStart().startsWith(magic);

/** Reads the .ppk format, versions 2 and 3. */
export async function readPPK(text: string, passphrase: string): Promise<ReadKey> {
  const f = new File(text);
  const plain = await f.open(passphrase);
  const pub = new Reader(f.publicKey);
  const r = new Reader(plain);
  const type = pub.text();
  switch (type) {
    case "ssh-ed25519": {
      const point = pub.string();
      const seed = new Uint8Array(32);
      seed.set(r.string().subarray(0, 32));
      return { jwk: edKey(seed, point), comment: f.comment };
    }
    case "ssh-rsa": {
      const [e, n, d, p, q, qi] = [pub.string(), pub.string(), r.string(), r.string(), r.string(), r.string()];
      return { jwk: rsaKey({ n, e, d, p, q, qi }), comment: f.comment };
    }
  }
  const crv = curveOf(pub.text());
  if (!crv) throw new KeyFileError("not-here", "Browsers have no keys of this type");
  return { jwk: curveKey(crv, pub.string(), r.string()), comment: f.comment };
}

class File {
  readonly version: string;
  readonly algorithm: string;
  readonly encryption: string;
  readonly comment: string;
  readonly publicKey: Bytes;
  private readonly sealed: Bytes;
  private readonly mac: string;
  private readonly lines: string[];

  constructor(text: string) {
    this.lines = text.trimStart().split(/\r?\n/);
    this.version = this.lines[0]!.slice(magic.length, magic.length + 1);
    if (this.version !== "2" && this.version !== "3") {
      throw new KeyFileError("not-here", "This is a .ppk file of another version than 2 and 3");
    }
    this.algorithm = this.header(magic + this.version);
    this.encryption = this.header("Encryption");
    this.comment = this.header("Comment");
    this.publicKey = this.blob("Public-Lines");
    this.sealed = this.blob("Private-Lines");
    this.mac = this.header("Private-MAC");
  }

  private index(name: string): number {
    const at = this.lines.findIndex((l) => l.startsWith(name + ":"));
    if (at < 0) throw new KeyFileError("damaged", `The line ${name} is missing`);
    return at;
  }

  private header(name: string): string {
    return this.lines[this.index(name)]!.slice(name.length + 1).trim();
  }

  private blob(name: string): Bytes {
    const from = this.index(name) + 1;
    return fromBase64(this.lines.slice(from, from + Number(this.header(name))).join(""));
  }

  private number(name: string): number {
    const n = Number(this.header(name));
    if (!Number.isInteger(n) || n < 1) throw new KeyFileError("damaged", `The line ${name} is damaged`);
    return n;
  }

  /** Decrypts the private part where it is encrypted, and checks that nothing was changed. */
  async open(passphrase: string): Promise<Bytes> {
    const encrypted = this.encryption === "aes256-cbc";
    if (!encrypted && this.encryption !== "none") {
      throw new KeyFileError("not-here", `The file is encrypted with ${this.encryption}, which is not read here`);
    }
    if (encrypted && passphrase === "") {
      throw new KeyFileError("passphrase-needed", "This file is encrypted with a passphrase");
    }
    const keys = await this.derive(encrypted ? passphrase : "", encrypted);
    let plain = this.sealed;
    if (encrypted) {
      const usages: KeyUsage[] = ["encrypt", "decrypt"];
      const key = await crypto.subtle.importKey("raw", keys.cipher, "AES-CBC", false, usages);
      plain = await openCBC(key, keys.iv, this.sealed);
    }
    const signed = [this.algorithm, this.encryption, this.comment, this.publicKey, plain].map((p) => string(p));
    if (
      !equal(
        keys.mac(joined(...signed)),
        Uint8Array.from(this.mac.match(/../g) ?? [], (b) => parseInt(b, 16)),
      )
    ) {
      throw encrypted
        ? new KeyFileError("passphrase-wrong", "The passphrase does not fit")
        : new KeyFileError("damaged", "This file was changed after it was written");
    }
    return plain;
  }

  private async derive(passphrase: string, encrypted: boolean) {
    const [{ hmac }, { sha256 }, { sha1 }] = await Promise.all([
      import("@noble/hashes/hmac.js"),
      import("@noble/hashes/sha2.js"),
      import("@noble/hashes/legacy.js"),
    ]);
    const given = bytesOf(passphrase);
    if (this.version === "2") {
      const stretched = joined(...[0, 1].map((n) => sha1(joined(new Uint8Array([0, 0, 0, n]), given))));
      const key = sha1(joined(bytesOf(macKey), given));
      return {
        cipher: stretched.slice(0, 32),
        iv: new Uint8Array(16),
        mac: (of: Bytes): Uint8Array => hmac(sha1, key, of),
      };
    }
    let derived: Bytes = new Uint8Array(80);
    if (encrypted) derived = await this.argon2(given);
    return {
      cipher: derived.slice(0, 32),
      iv: derived.slice(32, 48),
      mac: (of: Bytes): Uint8Array => hmac(sha256, encrypted ? derived.slice(48) : new Uint8Array(0), of),
    };
  }

  private async argon2(passphrase: Bytes): Promise<Bytes> {
    const [m, t, p] = ["Memory", "Passes", "Parallelism"].map((n) => this.number("Argon2-" + n)) as [
      number,
      number,
      number,
    ];
    if (m > mostMemory || m * t > mostWork || p > 16) {
      throw new KeyFileError("not-here", "The file asks for more work than is done in a browser");
    }
    const { argon2idAsync, argon2iAsync } = await import("@noble/hashes/argon2.js");
    const salt = Uint8Array.from(this.header("Argon2-Salt").match(/../g) ?? [], (b) => parseInt(b, 16));
    const derive = this.header("Key-Derivation") === "Argon2i" ? argon2iAsync : argon2idAsync;
    return joined(await derive(passphrase, salt, { m, t, p, dkLen: 80 }));
  }
}
