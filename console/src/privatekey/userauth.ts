import { strongest } from "./key";
import { equal, Reader, type Bytes } from "./wire";

/** What a login is of: the user, and the public key in the wire form. */
export interface LoginOf {
  user: string;
  blob: Uint8Array;
  type: string;
}

const userauthRequest = 50; // SSH_MSG_USERAUTH_REQUEST, RFC 4252 section 6

/**
 * Reads what a service asks to be signed for a login (RFC 4252 section 7), and returns the algorithm of the signature.
 * Throws for anything else: another user, another key, another method, or bytes that are over.
 */
export function algorithmOf(data: Bytes, of: LoginOf): string {
  const refuse = (what: string) => new Error(`The service asks to sign ${what}; nothing was signed`);
  let user, service, method, algorithm: string;
  let kind, signed: number;
  let session, blob: Bytes;
  const r = new Reader(data);
  try {
    session = r.string();
    kind = r.byte();
    [user, service, method] = [r.text(), r.text(), r.text()];
    signed = r.byte();
    algorithm = r.text();
    blob = r.string();
  } catch {
    throw refuse("something else than a login");
  }
  if (session.length < 20 || session.length > 64 || kind !== userauthRequest || signed !== 1 || !r.over)
    throw refuse("something else than a login");
  if (service !== "ssh-connection" || method !== "publickey") throw refuse(`a request for ${service} by ${method}`);
  if (user !== of.user) throw refuse(`a login as ${user}`);
  if (!equal(blob, of.blob)) throw refuse("a login with another key");
  const known = of.type === "ssh-rsa" ? ["rsa-sha2-512", "rsa-sha2-256"] : [strongest(of.type)];
  if (!known.includes(algorithm)) throw refuse(`by ${algorithm}`);
  return algorithm;
}
