/** Bytes of one hash in a set, and in what is kept of a page. */
export const ID_BYTES = 16;
const WORDS = ID_BYTES / 4;
const FIRST_SLOTS = 1 << 12;

/**
 * A set of 128-bit hashes in one typed array: 16 bytes for an entry at half load, so that a million ids take 32 MB and no garbage. Two
 * different ids are taken for one with a probability below 10⁻²⁴ among a hundred million. The hash of zeros marks a record without id, and
 * is never in it.
 */
export class IdSet {
  #slots = FIRST_SLOTS;
  #words = new Uint32Array(FIRST_SLOTS * WORDS);
  #size = 0;

  get size(): number {
    return this.#size;
  }

  /** True: it was not in the set. @param at where the hash begins in `bytes` */
  add(bytes: Uint8Array, at = 0): boolean {
    const view = new DataView(bytes.buffer, bytes.byteOffset + at, ID_BYTES);
    const hash = [view.getUint32(0), view.getUint32(4), view.getUint32(8), view.getUint32(12)] as const;
    if (hash[0] === 0 && hash[1] === 0 && hash[2] === 0 && hash[3] === 0) return true;
    if (this.#size * 2 >= this.#slots) this.#grow();
    if (!this.#put(this.#words, this.#slots, hash)) return false;
    this.#size += 1;
    return true;
  }

  #put(words: Uint32Array, slots: number, [a, b, c, d]: readonly [number, number, number, number]): boolean {
    for (let slot = a & (slots - 1); ; slot = (slot + 1) & (slots - 1)) {
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
      const hash = [this.#words[place] ?? 0, this.#words[place + 1] ?? 0, this.#words[place + 2] ?? 0, this.#words[place + 3] ?? 0] as const;
      if (hash[0] !== 0 || hash[1] !== 0 || hash[2] !== 0 || hash[3] !== 0) this.#put(words, slots, hash);
    }
    [this.#slots, this.#words] = [slots, words];
  }
}
