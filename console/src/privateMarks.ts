/**
 * The marks of a private half in any of its usual wrappings, as in
 * internal/core/keypair, so that one pasted by mistake is never sent.
 */
const marks = /BEGIN [A-Z0-9 ]*PRIVATE|-User-Key-File-[0-9]|Private-Lines:|b3BlbnNzaC1rZXktdj|"d"\s*:\s*"/i;

export const holdsPrivate = (text: string) => marks.test(text);
