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
  /** The key that is looked for or put: one place for all, because millions are. */
  readonly #key = new Uint32Array(WORDS);

  get size(): number {
    return this.#size;
  }

  /** True: it was not in the set. @param at where the key begins in `keys` */
  add(keys: DataView, at = 0): boolean {
    if (this.#size * 2 >= this.#slots) this.#grow();
    if (!this.#take(keys, at)) return true;
    if (!this.#put(this.#words)) return false;
    this.#size += 1;
    return true;
  }

  has(keys: DataView, at = 0): boolean {
    return this.#take(keys, at) && this.#isKey(this.#words, this.#find(this.#words));
  }

  /** False for the key of zeros. */
  #take(keys: DataView, at: number): boolean {
    for (let word = 0; word < WORDS; word += 1) this.#key[word] = keys.getUint32(at + word * 4);
    return !isEmpty(this.#key, 0);
  }

  /** Where the key stands in these words, or the free place where it belongs. */
  #find(words: Uint32Array): number {
    const slots = words.length / WORDS;
    for (let slot = firstSlot(this.#key, slots); ; slot = (slot + 1) & (slots - 1)) {
      const place = slot * WORDS;
      if (isEmpty(words, place) || this.#isKey(words, place)) return place;
    }
  }

  #isKey(words: Uint32Array, place: number): boolean {
    const key = this.#key;
    return words[place] === key[0] && words[place + 1] === key[1] && words[place + 2] === key[2] && words[place + 3] === key[3];
  }

  /** False: it is there. */
  #put(words: Uint32Array): boolean {
    const place = this.#find(words);
    if (!isEmpty(words, place)) return false;
    for (let word = 0; word < WORDS; word += 1) words[place + word] = this.#key[word] as number; // a call of set() would cost more
    return true;
  }

  #grow(): void {
    const words = new Uint32Array(this.#words.length * 2);
    for (let place = 0; place < this.#words.length; place += WORDS) {
      if (isEmpty(this.#words, place)) continue;
      for (let word = 0; word < WORDS; word += 1) this.#key[word] = this.#words[place + word] as number;
      this.#put(words);
    }
    [this.#slots, this.#words] = [words.length / WORDS, words];
  }
}

const isEmpty = (words: Uint32Array, place: number): boolean =>
  words[place] === 0 && words[place + 1] === 0 && words[place + 2] === 0 && words[place + 3] === 0;

/** Short ids are their own keys and much alike: all four words decide where the search for one begins. */
function firstSlot(key: Uint32Array, slots: number): number {
  const last = Math.imul(key[2] as number, 0xc2b2ae35) ^ Math.imul(key[3] as number, 0x27d4eb2f);
  const mixed = Math.imul((key[0] as number) ^ Math.imul(key[1] as number, 0x85ebca6b) ^ last, 0x9e3779b1);
  return (mixed ^ (mixed >>> 15)) & (slots - 1);
}
