import { bytesOf, fromBase64, textOf, toBase64 } from "./wire";

/** A key of this page, to which the service encrypts a private key on its way here. */
export interface Recipient {
  /** The public key in base64, for the request. */
  text: string;
  /** Opens what the service answered about the key of the name. */
  open(key: string, sealed: string): Promise<string>;
}

/** Makes a pair for one answer (HPKE, RFC 9180: DHKEM(X25519, HKDF-SHA256), HKDF-SHA256, AES-256-GCM). */
export async function newRecipient(): Promise<Recipient> {
  const { CipherSuite, DhkemX25519HkdfSha256, HkdfSha256, Aes256Gcm } = await import("@hpke/core");
  const suite = new CipherSuite({
    kem: new DhkemX25519HkdfSha256(),
    kdf: new HkdfSha256(),
    aead: new Aes256Gcm(),
  });
  const pair = await suite.kem.generateKeyPair();
  const text = toBase64(new Uint8Array(await suite.kem.serializePublicKey(pair.publicKey)));
  return {
    text,
    open: async (key, sealed) => {
      const all = fromBase64(sealed);
      const enc = all.slice(0, suite.kem.encSize);
      const info = bytesOf("plum latch private key " + key);
      const plain = await suite.open({ recipientKey: pair.privateKey, enc, info }, all.slice(enc.length));
      return textOf(new Uint8Array(plain));
    },
  };
}
