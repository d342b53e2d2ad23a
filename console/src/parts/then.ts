/** Where somebody wanted to go who was sent away to sign in by the issuer. */
const kept = "plumlatch-then";

/** A place within the console, and "/" for whatever else is given. */
export const within = (place: string | null) => (place?.startsWith("/") && !place.startsWith("//") ? place : "/");

export const keepThen = (place: string | null) => sessionStorage.setItem(kept, within(place));

/** What was kept, once. */
export function takeThen() {
  const place = sessionStorage.getItem(kept);
  sessionStorage.removeItem(kept);
  return place;
}
