import { bytesOf, fromBase64URL, joined, mpint, string, toBase64, toBase64URL, trimmed, type Bytes } from "./wire";

/**
 * A private key that this page can sign with. What is secret in it is held by the browser (Web Cryptography API) and
 * cannot be read out again, not by this page either.
 */
export interface OwnKey {
  /** The public key in the wire form of RFC 4253 section 6.6. */
  blob: Bytes;
  /** Its type, such as ssh-ed25519. */
  type: string;
  /** The SHA-256 fingerprint, as ssh-keygen shows it. */
  sha256: string;
  comment: string;
  /** Signs, and returns a signature in the wire form. The algorithm matters for RSA alone (RFC 8332). */
  sign(data: Uint8Array, algorithm: string): Promise<Bytes>;
  /** Opens what was encrypted to it by RSAES-OAEP with SHA-256 (RFC 8017 section 7.1); RSA keys alone can. */
  open?(sealed: Bytes): Promise<Bytes>;
}

/** Why a file gives no key that this page can sign with. */
export class KeyFileError extends Error {
  constructor(
    readonly code: "no-key" | "public" | "passphrase-needed" | "passphrase-wrong" | "damaged" | "not-here" | "hardware",
    message: string,
  ) {
    super(message);
  }
}

const curves: Record<string, { type: string; name: string; hash: string; bytes: number }> = {
  "P-256": { type: "ecdsa-sha2-nistp256", name: "nistp256", hash: "SHA-256", bytes: 32 },
  "P-384": { type: "ecdsa-sha2-nistp384", name: "nistp384", hash: "SHA-384", bytes: 48 },
  "P-521": { type: "ecdsa-sha2-nistp521", name: "nistp521", hash: "SHA-512", bytes: 66 },
};

/** The name of a curve in JSON Web Keys, by its name in SSH (RFC 5656 section 6.1). */
export const curveOf = (name: string) => Object.keys(curves).find((c) => curves[c]!.name === name);

/** The hash of each algorithm of RSA signatures that SSH still takes (RFC 8332 section 3). */
const rsaHashes: Record<string, string> = { "rsa-sha2-512": "SHA-512", "rsa-sha2-256": "SHA-256" };

/** The algorithm that a key of the type signs by where it has a choice. */
export const strongest = (type: string) => (type === "ssh-rsa" ? "rsa-sha2-512" : type);

export async function fingerprint(blob: Bytes): Promise<string> {
  const sum = await crypto.subtle.digest("SHA-256", blob);
  return "SHA256:" + toBase64(new Uint8Array(sum)).replace(/=+$/, "");
}

const parts = (jwk: JsonWebKey, ...names: ("n" | "e" | "x" | "y")[]) => names.map((n) => fromBase64URL(jwk[n] ?? ""));

/** Has the browser hold a private key, and forgets all of it but that. */
export async function hold(jwk: JsonWebKey, comment = ""): Promise<OwnKey> {
  if (!crypto.subtle) {
    throw new KeyFileError("not-here", "This browser signs on encrypted connections only: open the console by https");
  }
  try {
    switch (jwk.kty) {
      case "OKP":
        return await ed25519(jwk, comment);
      case "EC":
        return await ecdsa(jwk, comment);
      case "RSA":
        return await rsa(jwk, comment);
    }
  } catch (e) {
    if (e instanceof KeyFileError) throw e;
    throw new KeyFileError("damaged", "The browser does not take this key: " + String(e));
  }
  throw new KeyFileError("not-here", "Keys of this type cannot be used in the browser");
}

async function ed25519(jwk: JsonWebKey, comment: string): Promise<OwnKey> {
  const key = await crypto.subtle.importKey("jwk", { ...jwk, ext: true, key_ops: undefined }, "Ed25519", false, [
    "sign",
  ]);
  return ofEd25519(key, parts(jwk, "x")[0]!, comment);
}

async function ofEd25519(key: CryptoKey, point: Uint8Array, comment: string): Promise<OwnKey> {
  const type = "ssh-ed25519";
  const blob = joined(string(type), string(point));
  return {
    blob,
    type,
    comment,
    sha256: await fingerprint(blob),
    sign: async (data) =>
      joined(string(type), string(new Uint8Array(await crypto.subtle.sign("Ed25519", key, data as Bytes)))),
  };
}

/** Makes a pair whose private key nothing but this page can use, and which is gone with the page. */
export async function makeKey(comment: string): Promise<OwnKey> {
  const pair = await crypto.subtle.generateKey("Ed25519", false, ["sign", "verify"]);
  const point = new Uint8Array(await crypto.subtle.exportKey("raw", pair.publicKey));
  return ofEd25519(pair.privateKey, point, comment);
}

async function ecdsa(jwk: JsonWebKey, comment: string): Promise<OwnKey> {
  const curve = curves[jwk.crv ?? ""];
  if (!curve) throw new KeyFileError("not-here", "Keys on this curve cannot be used in the browser");
  const by = { name: "ECDSA", namedCurve: jwk.crv!, hash: curve.hash };
  const key = await crypto.subtle.importKey("jwk", { ...jwk, ext: true, key_ops: undefined }, by, false, ["sign"]);
  const [x, y] = parts(jwk, "x", "y");
  const blob = joined(string(curve.type), string(curve.name), string(joined(new Uint8Array([4]), x!, y!)));
  return {
    blob,
    type: curve.type,
    comment,
    sha256: await fingerprint(blob),
    // The browser gives r and s beside each other, SSH has two numbers (RFC 5656 section 3.1.2).
    sign: async (data) => {
      const rs = new Uint8Array(await crypto.subtle.sign(by, key, data as Bytes));
      const half = rs.length / 2;
      return joined(string(curve.type), string(joined(mpint(rs.subarray(0, half)), mpint(rs.subarray(half)))));
    },
  };
}

async function rsa(jwk: JsonWebKey, comment: string): Promise<OwnKey> {
  const [n, e] = parts(jwk, "n", "e");
  const keys: Record<string, CryptoKey> = {};
  for (const hash of Object.values(rsaHashes)) {
    keys[hash] = await crypto.subtle.importKey(
      "jwk",
      { ...jwk, alg: undefined, ext: true, key_ops: undefined },
      { name: "RSASSA-PKCS1-v1_5", hash },
      false,
      ["sign"],
    );
  }
  const opening = await crypto.subtle.importKey(
    "jwk",
    { ...jwk, alg: undefined, ext: true, key_ops: undefined },
    { name: "RSA-OAEP", hash: "SHA-256" },
    false,
    ["decrypt"],
  );
  const blob = joined(string("ssh-rsa"), mpint(e!), mpint(n!));
  return {
    blob,
    type: "ssh-rsa",
    comment,
    sha256: await fingerprint(blob),
    sign: async (data, algorithm) => {
      const key = keys[rsaHashes[algorithm] ?? ""];
      if (!key) throw new Error(`RSA keys do not sign by ${algorithm} here`);
      const signature = new Uint8Array(await crypto.subtle.sign("RSASSA-PKCS1-v1_5", key, data as Bytes));
      return joined(string(algorithm), string(signature));
    },
    open: async (sealed) => new Uint8Array(await crypto.subtle.decrypt("RSA-OAEP", opening, sealed)),
  };
}

/** The numbers of an RSA private key, each in network byte order. */
export interface RSANumbers {
  n: Uint8Array;
  e: Uint8Array;
  d: Uint8Array;
  p: Uint8Array;
  q: Uint8Array;
  qi: Uint8Array;
}

const big = (bytes: Uint8Array) =>
  BigInt("0x" + (Array.from(bytes, (b) => b.toString(16).padStart(2, "0")).join("") || "0"));

function bytesOfBig(n: bigint): Uint8Array {
  const hex = n.toString(16);
  const even = hex.length % 2 ? "0" + hex : hex;
  return Uint8Array.from(even.match(/../g) ?? [], (b) => parseInt(b, 16));
}

export function rsaKey(k: RSANumbers): JsonWebKey {
  const d = big(k.d);
  const [p, q] = [big(k.p), big(k.q)];
  if (p < 2n || q < 2n) throw new KeyFileError("damaged", "The numbers of this RSA key are damaged");
  const number = (of: Uint8Array) => toBase64URL(trimmed(of));
  return {
    kty: "RSA",
    n: number(k.n),
    e: number(k.e),
    d: number(k.d),
    p: number(k.p),
    q: number(k.q),
    dp: toBase64URL(bytesOfBig(d % (p - 1n))),
    dq: toBase64URL(bytesOfBig(d % (q - 1n))),
    qi: number(k.qi),
  };
}

/** An elliptic curve key of the point in its uncompressed form (SEC 1 section 2.3.3) and the private number. */
export function curveKey(crv: string, point: Uint8Array, d: Uint8Array): JsonWebKey {
  const size = curves[crv]!.bytes;
  if (point.length !== 1 + 2 * size || point[0] !== 4) throw new KeyFileError("damaged", "The point is damaged");
  const number = trimmed(d);
  if (number.length > size) throw new KeyFileError("damaged", "The private number is damaged");
  return {
    kty: "EC",
    crv,
    x: toBase64URL(point.subarray(1, 1 + size)),
    y: toBase64URL(point.subarray(1 + size)),
    d: toBase64URL(joined(new Uint8Array(size - number.length), number)),
  };
}

export const edKey = (seed: Uint8Array, point: Uint8Array): JsonWebKey => ({
  kty: "OKP",
  crv: "Ed25519",
  d: toBase64URL(seed),
  x: toBase64URL(point),
});

/** The SSHSIG of a text in its armour (OpenSSH's PROTOCOL.sshsig). */
export async function sshsig(key: OwnKey, namespace: string, text: string): Promise<string> {
  const hash = new Uint8Array(await crypto.subtle.digest("SHA-512", bytesOf(text)));
  const about = joined(string(namespace), string(""), string("sha512"));
  const magic = bytesOf("SSHSIG");
  const signature = await key.sign(joined(magic, about, string(hash)), strongest(key.type));
  const version = new Uint8Array([0, 0, 0, 1]);
  const body = toBase64(joined(magic, version, string(key.blob), about, string(signature)));
  const lines = body.match(/.{1,70}/g) ?? [];
  return `-----BEGIN SSH SIGNATURE-----\n${lines.join("\n")}\n-----END SSH SIGNATURE-----\n`;
}
