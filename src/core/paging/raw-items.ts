/**
 * The text of the list in a response, as it came: what is text already need not be made from records again. Null where it cannot be told
 * for certain without reading all of it; then the records are written out.
 *
 * The list reaches from the first `[` to the last `]`. It is exactly the member of the document where (1) what stands around it, with
 * `null` in its place, is the same document but for that member, and (2) no `]` inside is followed by a comma: so the list cannot have
 * ended before, with other members between, which a repeated name could hide from (1).
 * @param pointer where the list stands (RFC 6901): the whole document, or a member of it
 */
export function rawItems(body: string, document: unknown, pointer: string): string | null {
  if (pointer === '') return Array.isArray(document) ? body.trim() : null;
  const name = /^\/([^/~]+)$/.exec(pointer)?.[1];
  if (name === undefined || typeof document !== 'object' || document === null || !Object.hasOwn(document, name)) return null;
  const [first, last] = [body.indexOf('['), body.lastIndexOf(']')];
  if (first < 0 || last < first) return null;
  const around = body.length - (last - first);
  if (around > MAX_AROUND) return null;
  const inside = body.slice(first, last + 1);
  if (/\]\s*,/.test(inside)) return null;
  try {
    const rest: unknown = JSON.parse(`${body.slice(0, first)}null${body.slice(last + 1)}`);
    return JSON.stringify(rest) === JSON.stringify({ ...document, [name]: null }) ? inside : null;
  } catch {
    return null; // another array stands before or after it
  }
}

/** More text than that around a list costs as much as writing out the records. */
const MAX_AROUND = 20_000;
