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
    const type = stringAt(blob, 0).text;
    return /^[a-z0-9@.-]+$/.test(type)
      ? `${type} ${btoa(String.fromCharCode(...blob))} ${commentOfPPK(text)}`.trim()
      : undefined;
  } catch {
    return undefined; // cut short or damaged: the text is refused as it is
  }
}

const bytesOf = (base64: string) => Uint8Array.from(atob(base64.replace(/\s/g, "")), (c) => c.charCodeAt(0));

/** Reads a string of RFC 4251 section 5. */
function stringAt(bytes: Uint8Array, at: number) {
  const length = new DataView(bytes.buffer, bytes.byteOffset).getUint32(at);
  const end = at + 4 + length;
  if (end > bytes.length) throw new RangeError("cut short");
  const body = bytes.subarray(at + 4, end);
  return { body, end, text: new TextDecoder().decode(body) };
}

/** OpenSSH's PROTOCOL.key: a magic, cipher, KDF and its options, the number of keys, the public key. */
function ofOpenSSH(text: string): Uint8Array | undefined {
  const body = /BEGIN OPENSSH PRIVATE KEY-+([A-Za-z0-9+/=\s]+)-+END/.exec(text)?.[1];
  if (!body) return undefined;
  const bytes = bytesOf(body);
  const magic = "openssh-key-v1\0";
  if (new TextDecoder().decode(bytes.subarray(0, magic.length)) !== magic) return undefined;
  let at = magic.length;
  for (let n = 0; n < 3; n++) at = stringAt(bytes, at).end;
  return stringAt(bytes, at + 4).body;
}

function ofPPK(text: string): Uint8Array | undefined {
  const body = /-User-Key-File-[23]:[\s\S]*?Public-Lines: *\d+\r?\n([A-Za-z0-9+/=\s]+?)\r?\n[A-Z][\w-]+:/.exec(
    text,
  )?.[1];
  return body ? bytesOf(body) : undefined;
}

const commentOfPPK = (text: string) => /-User-Key-File-[23]:[\s\S]*?\nComment: *(.*?)\r?\n/.exec(text)?.[1] ?? "";
