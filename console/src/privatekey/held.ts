import { useSyncExternalStore } from "react";
import type { OwnKey } from "./key";

/** The private keys that this page can sign with, until it is closed, reloaded or told to forget them. */
let held: readonly OwnKey[] = [];
const readers = new Set<() => void>();

function now(keys: readonly OwnKey[]) {
  held = keys;
  readers.forEach((r) => r());
}

export const holdHere = (key: OwnKey) => now([...held.filter((k) => k.sha256 !== key.sha256), key]);

export const forgetAll = () => now([]);

export function useHeldKeys(): readonly OwnKey[] {
  return useSyncExternalStore(
    (reader) => {
      readers.add(reader);
      return () => readers.delete(reader);
    },
    () => held,
  );
}
