import type { IncomingMessage } from 'node:http';

const LOOK_EVERY_MS = 1_000;

/**
 * Bounds how long a body may be on its way. One look a second at all that are still coming costs less than a timer for each.
 * What is relayed is not watched: it may be long, and its caller is known before it is read.
 */
export interface BodyDeadline {
  /** `late` is called once, when the body is not here after the limit. */
  watch(request: IncomingMessage, late: () => void): void;
  /** The body is here. Without a word it is noticed within a second. */
  done(request: IncomingMessage): void;
  stop(): void;
}

export function bodyDeadline(limitMs: number): BodyDeadline {
  const coming = new Map<IncomingMessage, { since: number; late(): void }>();
  const look = (): void => {
    const now = performance.now();
    for (const [request, { since, late }] of coming) {
      const over = now - since > limitMs;
      if (!request.complete && !request.destroyed && !over) continue;
      coming.delete(request);
      if (!request.complete && !request.destroyed) late();
    }
  };
  const timer = setInterval(look, LOOK_EVERY_MS).unref();
  return {
    watch: (request, late) => void coming.set(request, { since: performance.now(), late }),
    done: (request) => void coming.delete(request),
    stop: () => clearInterval(timer),
  };
}
