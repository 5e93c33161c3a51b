import type { Problem } from '../../api/problem.ts';
import { problemOf } from './session.svelte.ts';

/** Something read from the service, read again every so often while its page is open; what is shown stays until the next answer. */
export class Loaded<T> {
  value = $state.raw<T | null>(null);
  problem = $state.raw<Problem | null>(null);
  readonly #read: () => Promise<T>;
  readonly #everyMs: number;
  #round = 0;

  constructor(read: () => Promise<T>, everyMs = 0) {
    this.#read = read;
    this.#everyMs = everyMs;
  }

  async load(): Promise<void> {
    this.#round += 1;
    const round = this.#round;
    try {
      const value = await this.#read();
      if (round !== this.#round) return;
      this.value = value;
      this.problem = null;
    } catch (error) {
      if (round === this.#round) this.problem = problemOf(error);
    }
  }

  /** Loads now and then on; the answer stops it. What an earlier start had read is not shown as if it were this one's. */
  start(): () => void {
    this.value = null;
    this.problem = null;
    void this.load();
    const timer = this.#everyMs > 0 ? setInterval(() => void (document.hidden || this.load()), this.#everyMs) : undefined;
    return () => {
      clearInterval(timer);
      this.#round += 1;
    };
  }
}

/** One thing that a person does: busy, then done or a problem. */
export class Doing {
  busy = $state(false);
  problem = $state.raw<Problem | null>(null);

  async run(work: () => Promise<void>): Promise<boolean> {
    if (this.busy) return false;
    this.busy = true;
    this.problem = null;
    try {
      await work();
      return true;
    } catch (error) {
      this.problem = problemOf(error);
      return false;
    } finally {
      this.busy = false;
    }
  }
}
