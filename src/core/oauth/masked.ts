import type { Secret } from '../secret.ts';

const MASK = '[masked]';

/**
 * A text from elsewhere with the exact secrets of the request that it answers masked, whatever their length, plain and as they look in a form,
 * in JSON or in a Basic header: providers echo what they were sent.
 */
export function masked(text: string, hides: readonly Secret[]): string {
  const forms = new Set(hides.flatMap((one) => writings(one.reveal())));
  // The longest first: one may hold another.
  return [...forms].sort((a, b) => b.length - a.length).reduce((at, one) => at.replaceAll(one, MASK), text);
}

const writings = (secret: string): string[] =>
  secret === '' ? [] : [secret, encodeURIComponent(secret), new URLSearchParams({ v: secret }).toString().slice(2), JSON.stringify(secret).slice(1, -1)];
