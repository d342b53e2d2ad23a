import type { VisitEnd, VisitWay } from "../../api/client";

const ends: Record<VisitEnd, string> = {
  left: "The terminal is closed",
  failed: "The terminal did not open",
  idle: "The terminal was closed: nothing was typed for too long",
  "too-long": "The terminal was closed: it was open for as long as one may be",
  away: "The terminal was closed: this page was away",
  "ended-by": "Somebody ended the terminal",
  "signed-out": "The terminal was closed: your session or your rights ended",
  cut: "The connection broke",
  unkept: "The terminal was closed: the recording is full or cannot be kept",
};

export const endText = (how: VisitEnd | undefined) => (how ? ends[how] : "The terminal is closed");

const short: Record<VisitEnd, string> = {
  left: "closed",
  failed: "did not open",
  idle: "idle",
  "too-long": "too long",
  away: "page away",
  "ended-by": "ended",
  "signed-out": "signed out",
  cut: "connection broke",
  unkept: "recording full",
};

export const endWord = (how: VisitEnd | undefined) => (how ? short[how] : "");

export const ways: Record<VisitWay, { name: string; note: string }> = {
  "own-key": {
    name: "Your private key",
    note: "It stays in this page. The service connects and asks this page for the one signature that opens the login.",
  },
  "visit-key": {
    name: "A key for this visit",
    note: "The page makes a key pair; the service places its line for as long as the visit lasts.",
  },
  "kept-key": {
    name: "A key in the safe",
    note: "The service signs with a private key that it keeps. A label may ask for a second person's consent.",
  },
};
