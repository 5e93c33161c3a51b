import { parseUrl } from '../url.ts';

/** Where two redirect URIs differ. They are compared as text, character by character (RFC 9700 §4.1.3). */
export type RedirectDifference = { kind: 'same' } | { kind: 'differs'; at: number; ours: string; theirs: string; says: string };

/** Compares our redirect URI with the one registered at the provider, and names the first difference in words. */
export function compareRedirectUris(ours: string, registered: string): RedirectDifference {
  if (ours === registered) return { kind: 'same' };
  let at = 0;
  while (at < ours.length && ours[at] === registered[at]) at += 1;
  return { kind: 'differs', at, ours: ours.slice(at, at + 12), theirs: registered.slice(at, at + 12), says: inWords(ours, registered, at) };
}

function inWords(ours: string, registered: string, at: number): string {
  if (registered.trim() === ours) return 'The registered one has a space or line break at its beginning or end.';
  if (registered === `${ours}/`) return 'The registered one has a slash too many at its end.';
  if (`${registered}/` === ours) return 'The registered one lacks the slash at its end.';
  if (registered.toLowerCase() === ours.toLowerCase()) return `The registered one differs in upper and lower case at character ${at + 1}.`;
  const [mine, other] = [parseUrl(ours), parseUrl(registered)];
  if (mine && other) {
    if (mine.protocol !== other.protocol) return `The registered one starts with ${other.protocol}// where ours starts with ${mine.protocol}//.`;
    if (mine.hostname !== other.hostname) return `The registered one names the host ${other.hostname}; ours is ${mine.hostname}.`;
    if (mine.port !== other.port)
      return `The registered one has ${other.port ? `the port ${other.port}` : 'no port'}; ours has ${mine.port ? `the port ${mine.port}` : 'none'}.`;
  }
  if (at === registered.length) return `The registered one ends too early, before \u201c${ours.slice(at, at + 12)}\u201d.`;
  if (at === ours.length) return `The registered one goes on after ours ends: \u201c${registered.slice(at, at + 12)}\u201d.`;
  return `They differ at character ${at + 1}: registered \u201c${registered.slice(at, at + 12)}\u201d, ours \u201c${ours.slice(at, at + 12)}\u201d.`;
}

/** Of several registered ones, the one that agrees longest with ours. */
export function nearest(ours: string, there: readonly string[]): string {
  const same = (other: string) => [...ours].findIndex((letter, at) => letter !== other[at]);
  const rate = (other: string) => (same(other) === -1 ? ours.length : same(other));
  return [...there].sort((a, b) => rate(b) - rate(a))[0] ?? '';
}
