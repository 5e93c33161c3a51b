import type { Ports } from '../ports.ts';

/** Wakes whoever waits, so that what was begun here does not wait for the next look around. */
export interface Bell {
  ring(): void;
  /** Until it rings, the time is over, or the work stops. */
  wait(ms: number, stop: AbortSignal): Promise<void>;
}

export function bell(ports: Pick<Ports, 'sleep'>): Bell {
  let waiting = new AbortController();
  return {
    ring() {
      waiting.abort();
      waiting = new AbortController();
    },
    async wait(ms, stop) {
      await ports.sleep(ms, AbortSignal.any([waiting.signal, stop]));
    },
  };
}
