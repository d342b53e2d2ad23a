/** A view of a list under a name: its filters, order and columns, as the address has them. */
export interface View {
  name: string;
  search: string;
}

const placeOf = (person: string, list: string) => `plumlatch-views ${person} ${list}`;

/** The views of a list that a person saved in this browser, by name. */
export function viewsOf(person: string, list: string): View[] {
  try {
    const read: unknown = JSON.parse(localStorage.getItem(placeOf(person, list)) ?? "[]");
    return Array.isArray(read) ? (read as View[]).filter((v) => v.name && typeof v.search === "string") : [];
  } catch {
    return [];
  }
}

/** Keeps a view, in place of one of the same name. */
export function saveView(person: string, list: string, view: View) {
  const others = viewsOf(person, list).filter((v) => v.name !== view.name);
  const all = [...others, view].sort((a, b) => a.name.localeCompare(b.name));
  localStorage.setItem(placeOf(person, list), JSON.stringify(all));
}

export function dropView(person: string, list: string, name: string) {
  const left = viewsOf(person, list).filter((v) => v.name !== name);
  localStorage.setItem(placeOf(person, list), JSON.stringify(left));
}
