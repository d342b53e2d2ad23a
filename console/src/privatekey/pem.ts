import { KeyFileError } from "./key";
import type { ReadKey } from "./openssh";
import { bytesOf, joined, type Bytes } from "./wire";

/** A value of DER (X.690): its tag, what is in it, and all of it. */
interface Value {
  tag: number;
  body: Bytes;
  whole: Bytes;
}

function values(der: Bytes): Value[] {
  const out: Value[] = [];
  for (let at = 0; at < der.length;) {
    const tag = der[at]!;
    let length = der[at + 1] ?? -1;
    let from = at + 2;
    if (length > 127) {
      const n = length & 127;
      if (n < 1 || n > 4) throw new RangeError("a length that is not read here");
      length = 0;
      for (let i = 0; i < n; i++) length = length * 256 + (der[from + i] ?? NaN);
      from += n;
    }
    if (!(length >= 0) || from + length > der.length) throw new RangeError("cut short");
    out.push({ tag, body: der.slice(from, from + length), whole: der.slice(at, from + length) });
    at = from + length;
  }
  return out;
}

function inside(v: Value | undefined, tag: number): Bytes {
  if (v?.tag !== tag) throw new RangeError("another structure");
  return v.body;
}

function der(tag: number, ...parts: Uint8Array[]): Bytes {
  const body = joined(...parts);
  const n = body.length;
  const length = n < 128 ? [n] : n < 256 ? [0x81, n] : [0x82, n >> 8, n & 255];
  return joined(new Uint8Array([tag, ...length]), body);
}

const [integer, octets, object, sequence] = [0x02, 0x04, 0x06, 0x30];
const hex = (bytes: Uint8Array) => Array.from(bytes, (b) => b.toString(16).padStart(2, "0")).join("");
const fromHex = (text: string) => Uint8Array.from(text.match(/../g) ?? [], (b) => parseInt(b, 16));

const rsaOID = "2a864886f70d010101";
const ecOID = "2a8648ce3d0201";
const edOID = "2b6570";
const curves: Record<string, string> = {
  "2a8648ce3d030107": "P-256",
  "2b81040022": "P-384",
  "2b81040023": "P-521",
};

/** Puts PKCS#1 (RFC 8017 appendix A.1.2) into PKCS#8 (RFC 5958). */
export const ofPKCS1 = (key: Bytes): Bytes =>
  der(
    sequence,
    der(integer, new Uint8Array(1)),
    der(sequence, der(object, fromHex(rsaOID)), new Uint8Array([5, 0])),
    der(octets, key),
  );

/** Puts SEC1 (RFC 5915), which names its curve, into PKCS#8. */
export function ofSEC1(key: Bytes): Bytes {
  const curve = values(inside(values(key)[0], sequence)).find((v) => v.tag === 0xa0);
  if (!curve) throw new KeyFileError("not-here", "This key does not name its curve");
  return der(
    sequence,
    der(integer, new Uint8Array(1)),
    der(sequence, der(object, fromHex(ecOID)), curve.body),
    der(octets, key),
  );
}

/** Reads PKCS#8 that is not encrypted. */
export async function readPKCS8(bytes: Bytes): Promise<ReadKey> {
  const algorithm = values(inside(values(inside(values(bytes)[0], sequence))[1], sequence));
  let by: AlgorithmIdentifier | RsaHashedImportParams | EcKeyImportParams;
  switch (hex(inside(algorithm[0], object))) {
    case rsaOID:
      by = { name: "RSASSA-PKCS1-v1_5", hash: "SHA-512" };
      break;
    case edOID:
      by = "Ed25519";
      break;
    case ecOID: {
      const namedCurve = curves[hex(inside(algorithm[1], object))];
      if (!namedCurve) throw new KeyFileError("not-here", "Browsers have no keys on this curve");
      by = { name: "ECDSA", namedCurve };
      break;
    }
    default:
      throw new KeyFileError("not-here", "Browsers have no keys of this type");
  }
  const key = await crypto.subtle.importKey("pkcs8", bytes, by, true, ["sign"]);
  return { jwk: await crypto.subtle.exportKey("jwk", key), comment: "" };
}

const hashes: Record<string, string> = {
  "2a864886f70d0207": "SHA-1",
  "2a864886f70d0209": "SHA-256",
  "2a864886f70d020a": "SHA-384",
  "2a864886f70d020b": "SHA-512",
};
const ciphers: Record<string, number> = {
  "608648016503040102": 128,
  "608648016503040116": 192,
  "60864801650304012a": 256,
};
const mostIterations = 10_000_000;

/** Opens PKCS#8 that is encrypted by PBES2 (RFC 8018 section 6.2), with PBKDF2 and AES-CBC. */
export async function openPKCS8(bytes: Bytes, passphrase: string): Promise<Bytes> {
  const other = (what: string) =>
    new KeyFileError("not-here", `The file is encrypted by ${what}: save it in OpenSSH's format with ssh-keygen -p`);
  const [scheme, data] = values(inside(values(bytes)[0], sequence));
  const [id, parameters] = values(inside(scheme, sequence));
  if (hex(inside(id, object)) !== "2a864886f70d01050d") throw other("a scheme that browsers have not");
  if (passphrase === "") throw new KeyFileError("passphrase-needed", "This file is encrypted with a passphrase");
  const [kdf, cipher] = values(inside(parameters, sequence)).map((v) => values(inside(v, sequence)));
  if (hex(inside(kdf?.[0], object)) !== "2a864886f70d01050c") throw other("a derivation that browsers have not");
  const [salt, count, ...more] = values(inside(kdf?.[1], sequence));
  const prf = more.find((v) => v.tag === sequence);
  const hash = hashes[prf ? hex(inside(values(prf.body)[0], object)) : "2a864886f70d0207"];
  const length = ciphers[hex(inside(cipher?.[0], object))];
  const iterations = Number("0x" + hex(inside(count, integer)));
  if (!hash || !length || !(iterations > 0 && iterations <= mostIterations)) throw other("what is not read here");
  const base = await crypto.subtle.importKey("raw", bytesOf(passphrase), "PBKDF2", false, ["deriveKey"]);
  const key = await crypto.subtle.deriveKey(
    { name: "PBKDF2", salt: inside(salt, octets), iterations, hash },
    base,
    { name: "AES-CBC", length },
    false,
    ["decrypt"],
  );
  try {
    const iv = inside(cipher?.[1], octets);
    return new Uint8Array(await crypto.subtle.decrypt({ name: "AES-CBC", iv }, key, inside(data, octets)));
  } catch {
    throw new KeyFileError("passphrase-wrong", "The passphrase does not fit");
  }
}
