import { Secret } from '../secret.ts';

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

/** What must not be seen of the credentials of a request: the secret, and the Basic header that it is part of. */
export const hidesOf = ({ clientId, secret }: { clientId: string; secret: Secret | null }): Secret[] =>
  secret === null ? [] : [secret, ...basicForms(clientId, secret)];

/** How an id and a secret stand in a Basic header (RFC 6749 §2.3.1), form-encoded first or not: also what is too short to be told apart. */
const basicForms = (id: string, secret: Secret): Secret[] =>
  [secret.reveal(), encodeURIComponent(secret.reveal()), new URLSearchParams({ v: secret.reveal() }).toString().slice(2)].flatMap((one) =>
    [id, encodeURIComponent(id)].map((name) => new Secret(Buffer.from(`${name}:${one}`).toString('base64'))),
  );

const writings = (secret: string): string[] =>
  secret === '' ? [] : [secret, encodeURIComponent(secret), new URLSearchParams({ v: secret }).toString().slice(2), JSON.stringify(secret).slice(1, -1)];
