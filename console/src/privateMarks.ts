import { bytesOf, equal, fromBase64, Reader, toBase64 } from "./privatekey/wire";

/**
 * The marks of a private key in any of its usual wrappings, as in
 * internal/core/keypair, so that one pasted by mistake is never sent.
 */
const marks = /BEGIN [A-Z0-9 ]*PRIVATE|-User-Key-File-[0-9]|Private-Lines:|b3BlbnNzaC1rZXktdj|"d"\s*:\s*"/i;

/** Base64 of a PKCS#1, SEC1 or PKCS#8 structure whose header line was lost. */
const bareDER = /^[> \t\uFEFF]*M(?:..CAQ[AE]|I..AgE[AB]|II...IBA[A-D])|BgkqhkiG9w0BBQ0/m;

export const holdsPrivate = (text: string) => marks.test(text) || bareDER.test(text);

/**
 * The public key, as one line, of a private key in OpenSSH's own format or in
 * .ppk, which both hold it in the open. Undefined for any other text: the classic
 * forms would need the mathematics of each type of key.
 */
export function publicKeyOf(text: string): string | undefined {
  try {
    const blob = ofOpenSSH(text) ?? ofPPK(text);
    if (!blob) return undefined;
    const type = new Reader(blob).text();
    return /^[a-z0-9@.-]+$/.test(type) ? `${type} ${toBase64(blob)} ${commentOfPPK(text)}`.trim() : undefined;
  } catch {
    return undefined; // cut short or damaged: the text is refused as it is
  }
}

/** OpenSSH's PROTOCOL.key: a magic, cipher, KDF and its options, the number of keys, the public key. */
function ofOpenSSH(text: string): Uint8Array | undefined {
  const body = /BEGIN OPENSSH PRIVATE KEY-+([A-Za-z0-9+/=\s]+)-+END/.exec(text)?.[1];
  if (!body) return undefined;
  const r = new Reader(fromBase64(body));
  const magic = bytesOf("openssh-key-v1\0");
  if (!equal(r.take(magic.length), magic)) return undefined;
  for (let n = 0; n < 3; n++) r.string();
  r.uint32();
  return r.string();
}

function ofPPK(text: string): Uint8Array | undefined {
  const body = /-User-Key-File-[23]:[\s\S]*?Public-Lines: *\d+\r?\n([A-Za-z0-9+/=\s]+?)\r?\n[A-Z][\w-]+:/.exec(
    text,
  )?.[1];
  return body ? fromBase64(body) : undefined;
}

const commentOfPPK = (text: string) => /-User-Key-File-[23]:[\s\S]*?\nComment: *(.*?)\r?\n/.exec(text)?.[1] ?? "";
