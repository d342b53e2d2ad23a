/** The labels of a text such as team=atlas, site=pier-2. */
export function labelsOf(text: string | undefined): Record<string, string> {
  const pairs = (text ?? "")
    .split(",")
    .map((p) => p.trim())
    .filter((p) => p.includes("="))
    .map((p) => [p.slice(0, p.indexOf("=")), p.slice(p.indexOf("=") + 1)]);
  return Object.fromEntries(pairs) as Record<string, string>;
}

/** Labels as a text. */
export const labelsText = (labels: Record<string, string>) =>
  Object.keys(labels)
    .sort()
    .map((k) => `${k}=${labels[k]}`)
    .join(", ");

/** What a field with labels takes. */
export const labelRules = [
  {
    pattern: /^\s*([a-z0-9._-]+=[^,]*)?(,\s*[a-z0-9._-]+=[^,]*)*\s*$/,
    message: "name=value, with commas between",
  },
];
