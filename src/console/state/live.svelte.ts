/** How long until a stream that the service has closed is asked for again. */
const AGAIN_MS = 3_000;

/**
 * What the service reports while a page is open: that something changed. `off`: nobody is signed in, or the browser has no event streams.
 * One stream serves all parts of the page; the browser itself reconnects after a lost connection.
 */
export class Live {
  state = $state<'off' | 'connecting' | 'open' | 'lost'>('off');
  readonly #open: (address: string) => EventSource;
  readonly #listeners = new Set<() => void>();
  #source: EventSource | null = null;
  #timer: ReturnType<typeof setTimeout> | undefined;

  constructor(open: (address: string) => EventSource) {
    this.#open = open;
  }

  start(): void {
    if (this.#source) return;
    clearTimeout(this.#timer);
    if (this.state === 'off') this.state = 'connecting';
    const source = this.#open('/api/v1/events');
    this.#source = source;
    source.addEventListener('ready', () => {
      const wasLost = this.state === 'lost';
      this.state = 'open';
      if (wasLost) this.#report(); // what happened meanwhile was not heard
    });
    source.addEventListener('changed', () => this.#report());
    source.addEventListener('error', () => {
      this.state = 'lost';
      if (source.readyState !== 2) return; // the browser tries again
      this.#source = null;
      this.#timer = setTimeout(() => this.start(), AGAIN_MS);
    });
  }

  stop(): void {
    clearTimeout(this.#timer);
    this.#source?.close();
    this.#source = null;
    this.state = 'off';
  }

  /** Calls back at each change; the answer ends that. */
  onChange(listener: () => void): () => void {
    this.#listeners.add(listener);
    return () => this.#listeners.delete(listener);
  }

  #report(): void {
    for (const listener of this.#listeners) listener();
  }
}

export const live = new Live((address) => new EventSource(address));
