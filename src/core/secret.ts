/**
 * A text that must not be printed. `reveal()` is the one word a reviewer searches for;
 * every other way of turning it into text or JSON gives a mask.
 */
export class Secret {
  readonly #text: string;

  constructor(text: string) {
    this.#text = text;
  }

  reveal(): string {
    return this.#text;
  }

  toString(): string {
    return '[secret]';
  }

  toJSON(): string {
    return '[secret]';
  }

  [Symbol.for('nodejs.util.inspect.custom')](): string {
    return '[secret]';
  }
}
