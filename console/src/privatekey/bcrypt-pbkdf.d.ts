declare module "bcrypt-pbkdf" {
  /** Fills key; anything but 0 is a failure. */
  export function pbkdf(
    passphrase: Uint8Array,
    passphraseLength: number,
    salt: Uint8Array,
    saltLength: number,
    key: Uint8Array,
    keyLength: number,
    rounds: number,
  ): number;
}
