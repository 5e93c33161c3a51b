import type { Problem } from '../../api/problem.ts';
import { type Live, live } from './live.svelte.ts';
import { problemOf } from './session.svelte.ts';

/** While the service reports changes, what is shown is read again this seldom without one: not everything is a change in the database. */
const QUIET_MS = 15_000;

/** Something read from the service, read again while its page is open; what is shown stays until the next answer. */
export class Query<T> {
  value = $state.raw<T | null>(null);
  problem = $state.raw<Problem | null>(null);
  readonly #read: () => Promise<T>;
  readonly #everyMs: number;
  readonly #live: Pick<Live, 'state' | 'onChange'>;
  #round = 0;
  #readAt = 0;
  #isStale = false;

  /**
   * @param everyMs 0: it is read once. Else at each change that the service reports, at most once in so many milliseconds; where nothing
   *   reports changes, as often as that.
   */
  constructor(read: () => Promise<T>, everyMs = 0, source: Pick<Live, 'state' | 'onChange'> = live) {
    this.#read = read;
    this.#everyMs = everyMs;
    this.#live = source;
  }

  async load(): Promise<void> {
    this.#round += 1;
    const round = this.#round;
    this.#readAt = Date.now();
    this.#isStale = false;
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
    const timer = this.#everyMs > 0 ? setInterval(() => this.#look(), this.#everyMs) : undefined;
    const unsubscribe = this.#live.onChange(() => {
      if (this.#everyMs === 0) return;
      this.#isStale = true;
      if (Date.now() - this.#readAt >= this.#everyMs) this.#look();
    });
    return () => {
      clearInterval(timer);
      unsubscribe();
      this.#round += 1;
    };
  }

  #look(): void {
    if (document.hidden) return;
    if (this.#live.state !== 'open' || this.#isStale || Date.now() - this.#readAt >= QUIET_MS) void this.load();
  }
}

/** One thing that a person does: busy, then done or a problem. */
export class Action {
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
