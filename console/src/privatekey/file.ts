import { hold, KeyFileError, type OwnKey } from "./key";
import { readOpenSSH, type ReadKey } from "./openssh";
import { ofPKCS1, ofSEC1, openPKCS8, readPKCS8 } from "./pem";
import { isPPK, readPPK } from "./ppk";
import { fromBase64 } from "./wire";

/** The largest file that is looked at, in bytes: private keys are smaller. */
export const mostBytes = 64 << 10;

/** Reads a private key, in any of its usual forms, and has the browser hold it. Throws a KeyFileError. */
export async function readPrivateKey(text: string, passphrase: string): Promise<OwnKey> {
  let read: ReadKey;
  try {
    read = await readAny(text, passphrase);
  } catch (e) {
    if (e instanceof KeyFileError) throw e;
    throw new KeyFileError("damaged", "This file is damaged or cut short");
  }
  return hold(read.jwk, read.comment);
}

async function readAny(text: string, passphrase: string): Promise<ReadKey> {
  if (isPPK(text)) return readPPK(text, passphrase);
  const [, kind, body] = /-----BEGIN ([A-Z0-9 ]+)-----([\s\S]*?)-----END \1-----/.exec(text) ?? [];
  if (!kind?.endsWith("PRIVATE KEY")) {
    if (/^\s*(ssh-|ecdsa-|sk-)\S+ [A-Za-z0-9+/=]+/.test(text) || kind?.includes("PUBLIC KEY")) {
      throw new KeyFileError("public", "This is a public key; the private key is in the file without .pub");
    }
    throw new KeyFileError("no-key", "This is no private key");
  }
  if (/^Proc-Type:/m.test(body!)) {
    throw new KeyFileError(
      "not-here",
      "The file is encrypted in a way that browsers do not have: save it in OpenSSH's format with ssh-keygen -p",
    );
  }
  const bytes = fromBase64(body!);
  switch (kind) {
    case "OPENSSH PRIVATE KEY":
      return readOpenSSH(bytes, passphrase);
    case "PRIVATE KEY":
      return readPKCS8(bytes);
    case "ENCRYPTED PRIVATE KEY":
      return readPKCS8(await openPKCS8(bytes, passphrase));
    case "RSA PRIVATE KEY":
      return readPKCS8(ofPKCS1(bytes));
    case "EC PRIVATE KEY":
      return readPKCS8(ofSEC1(bytes));
  }
  throw new KeyFileError("not-here", `Browsers do not read ${kind}`);
}
