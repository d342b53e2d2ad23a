import { curveKey, curveOf, edKey, KeyFileError, rsaKey } from "./key";
import { bytesOf, joined, Reader, textOf, type Bytes } from "./wire";

/** What a file holds before it is given to the browser. */
export interface ReadKey {
  jwk: JsonWebKey;
  comment: string;
}

const magic = "openssh-key-v1\0";

/** The ciphers of PROTOCOL.key that browsers have, with their sizes in bytes. */
const ciphers: Record<string, { by: "AES-CTR" | "AES-CBC" | "AES-GCM"; key: number; iv: number }> = {
  "aes128-ctr": { by: "AES-CTR", key: 16, iv: 16 },
  "aes192-ctr": { by: "AES-CTR", key: 24, iv: 16 },
  "aes256-ctr": { by: "AES-CTR", key: 32, iv: 16 },
  "aes128-cbc": { by: "AES-CBC", key: 16, iv: 16 },
  "aes192-cbc": { by: "AES-CBC", key: 24, iv: 16 },
  "aes256-cbc": { by: "AES-CBC", key: 32, iv: 16 },
  "aes128-gcm@openssh.com": { by: "AES-GCM", key: 16, iv: 12 },
  "aes256-gcm@openssh.com": { by: "AES-GCM", key: 32, iv: 12 },
};

/** More rounds than anybody asks for take minutes in a browser. */
const mostRounds = 200;

/** Reads OpenSSH's own format of private keys (PROTOCOL.key). */
export async function readOpenSSH(bytes: Bytes, passphrase: string): Promise<ReadKey> {
  const r = new Reader(bytes);
  if (textOf(r.take(magic.length)) !== magic) throw new KeyFileError("damaged", "This file is damaged");
  const cipher = r.text();
  const kdf = r.text();
  const options = r.string();
  if (r.uint32() !== 1) throw new KeyFileError("not-here", "Files with several keys are not read here");
  const publicKey = r.string();
  const sealed = r.string();
  const tag = r.rest();
  if (new Reader(publicKey).text().startsWith("sk-")) {
    throw new KeyFileError(
      "hardware",
      "The private key is inside a hardware key, which browsers do not let sign for SSH",
    );
  }
  if (cipher === "none") return readParts(sealed, "damaged");
  if (passphrase === "") throw new KeyFileError("passphrase-needed", "This file is encrypted with a passphrase");
  const plain = await open(cipher, kdf, options, sealed, tag, passphrase);
  try {
    return readParts(plain, "passphrase-wrong");
  } finally {
    plain.fill(0);
  }
}

async function open(cipher: string, kdf: string, options: Bytes, sealed: Bytes, tag: Bytes, passphrase: string) {
  const c = ciphers[cipher];
  if (!c || kdf !== "bcrypt") {
    throw new KeyFileError(
      "not-here",
      `Browsers have no ${c ? kdf : cipher}: save the key with ssh-keygen -p -Z aes256-ctr`,
    );
  }
  const r = new Reader(options);
  const salt = r.string();
  const rounds = r.uint32();
  if (rounds < 1 || rounds > mostRounds || salt.length < 1 || salt.length > 256) {
    throw new KeyFileError("not-here", `The file asks for ${rounds} rounds of bcrypt, more than is done here`);
  }
  const { pbkdf } = (await import("bcrypt-pbkdf")).default;
  const given = bytesOf(passphrase);
  const derived = new Uint8Array(c.key + c.iv);
  if (pbkdf(given, given.length, salt, salt.length, derived, derived.length, rounds) !== 0) {
    throw new KeyFileError("damaged", "This file is damaged");
  }
  const key = await crypto.subtle.importKey("raw", derived.slice(0, c.key), c.by, false, ["encrypt", "decrypt"]);
  const iv = derived.slice(c.key);
  derived.fill(0);
  try {
    switch (c.by) {
      case "AES-CTR":
        return new Uint8Array(await crypto.subtle.decrypt({ name: c.by, counter: iv, length: 128 }, key, sealed));
      case "AES-GCM":
        return new Uint8Array(await crypto.subtle.decrypt({ name: c.by, iv }, key, joined(sealed, tag)));
      default:
        return await openCBC(key, iv, sealed);
    }
  } catch {
    throw new KeyFileError("passphrase-wrong", "The passphrase does not fit");
  }
}

/** Decrypts AES-CBC without padding: a block is added that decrypts to the padding that browsers insist on. */
export async function openCBC(key: CryptoKey, iv: Bytes, sealed: Bytes): Promise<Bytes> {
  const last = sealed.slice(-16);
  const end = new Uint8Array(await crypto.subtle.encrypt({ name: "AES-CBC", iv: last }, key, new Uint8Array(0)));
  return new Uint8Array(await crypto.subtle.decrypt({ name: "AES-CBC", iv }, key, joined(sealed, end)));
}

function readParts(plain: Bytes, otherwise: "damaged" | "passphrase-wrong"): ReadKey {
  const refused = () =>
    new KeyFileError(otherwise, otherwise === "damaged" ? "This file is damaged" : "The passphrase does not fit");
  const r = new Reader(plain);
  if (r.uint32() !== r.uint32()) throw refused();
  const type = r.text();
  let jwk: JsonWebKey;
  switch (type) {
    case "ssh-ed25519": {
      const point = r.string();
      jwk = edKey(r.string().subarray(0, 32), point);
      break;
    }
    case "ssh-rsa": {
      const [n, e, d, qi, p, q] = [r.string(), r.string(), r.string(), r.string(), r.string(), r.string()];
      jwk = rsaKey({ n, e, d, p, q, qi });
      break;
    }
    default: {
      const crv = curveOf(r.text());
      if (!type.startsWith("ecdsa-") || !crv) throw new KeyFileError("not-here", "Browsers have no keys of this type");
      jwk = curveKey(crv, r.string(), r.string());
    }
  }
  return { jwk, comment: textOf(r.string()) };
}
