import { createHash } from 'node:crypto';

/** Bytes of one key in a set, and in what is kept of a page. */
export const ID_BYTES = 16;
const SHORT = ID_BYTES - 1;
/** The last byte of a hashed key: no length of a short id. */
const HASHED = 0xff;

/** Bytes as the set reads them. */
export const keysOf = (bytes: Uint8Array): DataView => new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength);

/**
 * Writes the key of an id: a short one in ASCII as it is, with its length, so that two ids never share a key; a longer one as 15 bytes of
 * its SHA-256, where two of a hundred million share one with a probability below 10⁻²⁰. Null: zeros.
 */
export function writeKey(id: string | null, bytes: Uint8Array, at: number): void {
  bytes.fill(0, at, at + ID_BYTES);
  if (id === null) return;
  let isShort = id.length <= SHORT;
  for (let n = 0; isShort && n < id.length; n += 1) {
    const code = id.charCodeAt(n);
    if (code > 127) isShort = false;
    else bytes[at + n] = code;
  }
  if (!isShort) bytes.set(createHash('sha256').update(id).digest().subarray(0, SHORT), at);
  bytes[at + SHORT] = isShort ? id.length + 1 : HASHED;
}
const WORDS = ID_BYTES / 4;
const FIRST_SLOTS = 1 << 12;

/**
 * A set of 16-byte keys of ids in one typed array, at half load at most, so that a million ids take 32 MB and no garbage. The key of zeros
 * marks a record without id, and is never in it.
 */
export class IdSet {
  #slots = FIRST_SLOTS;
  #words = new Uint32Array(FIRST_SLOTS * WORDS);
  #size = 0;

  get size(): number {
    return this.#size;
  }

  /** True: it was not in the set. @param at where the key begins in `keys` */
  add(keys: DataView, at = 0): boolean {
    const [a, b, c, d] = [keys.getUint32(at), keys.getUint32(at + 4), keys.getUint32(at + 8), keys.getUint32(at + 12)];
    if (a === 0 && b === 0 && c === 0 && d === 0) return true;
    if (this.#size * 2 >= this.#slots) this.#grow();
    if (!this.#put(this.#words, this.#slots, a, b, c, d)) return false;
    this.#size += 1;
    return true;
  }

  has(keys: DataView, at = 0): boolean {
    const [a, b, c, d] = [keys.getUint32(at), keys.getUint32(at + 4), keys.getUint32(at + 8), keys.getUint32(at + 12)];
    if (a === 0 && b === 0 && c === 0 && d === 0) return false;
    const words = this.#words;
    for (let slot = firstSlot(this.#slots, a, b, c, d); ; slot = (slot + 1) & (this.#slots - 1)) {
      const place = slot * WORDS;
      if (words[place] === a && words[place + 1] === b && words[place + 2] === c && words[place + 3] === d) return true;
      if (words[place] === 0 && words[place + 1] === 0 && words[place + 2] === 0 && words[place + 3] === 0) return false;
    }
  }

  #put(words: Uint32Array, slots: number, a: number, b: number, c: number, d: number): boolean {
    for (let slot = firstSlot(slots, a, b, c, d); ; slot = (slot + 1) & (slots - 1)) {
      const place = slot * WORDS;
      if (words[place] === 0 && words[place + 1] === 0 && words[place + 2] === 0 && words[place + 3] === 0) {
        words[place] = a;
        words[place + 1] = b;
        words[place + 2] = c;
        words[place + 3] = d;
        return true;
      }
      if (words[place] === a && words[place + 1] === b && words[place + 2] === c && words[place + 3] === d) return false;
    }
  }

  #grow(): void {
    const [slots, words] = [this.#slots * 2, new Uint32Array(this.#slots * 2 * WORDS)];
    for (let place = 0; place < this.#words.length; place += WORDS) {
      const [a = 0, b = 0, c = 0, d = 0] = [this.#words[place], this.#words[place + 1], this.#words[place + 2], this.#words[place + 3]];
      if (a !== 0 || b !== 0 || c !== 0 || d !== 0) this.#put(words, slots, a, b, c, d);
    }
    [this.#slots, this.#words] = [slots, words];
  }
}

/** Short ids are their own keys and much alike: all four words decide where the search for one begins. */
function firstSlot(slots: number, a: number, b: number, c: number, d: number): number {
  const mixed = Math.imul(a ^ Math.imul(b, 0x85ebca6b) ^ Math.imul(c, 0xc2b2ae35) ^ Math.imul(d, 0x27d4eb2f), 0x9e3779b1);
  return (mixed ^ (mixed >>> 15)) & (slots - 1);
}
