/**
 * Style elements are taken with the nonce of this page alone, so that markup that comes from elsewhere brings none. The
 * component library and the terminal make theirs by scripts of ours, and not all of them have a place for a nonce.
 */
const nonce = document.querySelector<HTMLMetaElement>('meta[name="style-nonce"]')?.content ?? "";
const create = document.createElement.bind(document);

function createElement(name: string, options?: ElementCreationOptions): HTMLElement {
  const made = create(name, options);
  if (name.toLowerCase() === "style") made.nonce = nonce;
  return made;
}

document.createElement = createElement;
