/** A JSON document from elsewhere, looked into member by member: what is not of the expected kind is nothing. */
export type Json = Record<string, unknown>;
export const record = (value: unknown): Json => (typeof value === 'object' && value !== null && !Array.isArray(value) ? (value as Json) : {});
export const text = (value: unknown): string | undefined => (typeof value === 'string' ? value : undefined);
/** The document in a text, or null where it is not JSON. */
export function parsedJson(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return null;
  }
}
/** The value that an object of ours holds under a word from elsewhere; nothing for `constructor` and its kin. */
export const own = <T>(table: Readonly<Record<string, T>>, word: string): T | undefined => (Object.hasOwn(table, word) ? table[word] : undefined);

/**
 * The value at a JSON pointer (RFC 6901), or undefined. Of a document from elsewhere: own members alone are followed, which the usual package
 * does not promise (docs/decisions/5).
 */
export const at = (document: unknown, pointer: string): unknown => pointerReader(pointer)(document);

/** The same for many documents: the pointer is read once. */
export function pointerReader(pointer: string): (document: unknown) => unknown {
  const steps = pointer
    .slice(1)
    .split('/')
    .map((step) => step.replaceAll('~1', '/').replaceAll('~0', '~'));
  return (document) => {
    let value: unknown = document;
    for (const step of steps) {
      if (typeof value !== 'object' || value === null) return undefined;
      value = own(value as Json, step);
    }
    return value;
  };
}
