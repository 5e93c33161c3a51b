import { isLoopbackHost } from './web-address.ts';

/** Human input, tidied; what was changed is said, so that nobody wonders. */
export interface Tidied<T> {
  value: T;
  changed: string[];
}

/** An address as people type or paste it: without https://, with spaces or quotes around it, with a comma after it. */
export function tidyAddress(typed: string): Tidied<string> {
  const changed: string[] = [];
  let value = typed.trim().replace(/^["'<(]+|["'>),;]+$/g, '');
  if (value !== typed) changed.push('Spaces, quotes or commas around the address were taken away.');
  if (/\s/.test(value)) {
    value = value.replace(/\s+/g, '');
    changed.push('Spaces inside the address were taken away.');
  }
  if (value !== '' && !/^[a-z][a-z0-9+.-]*:\/\//i.test(value)) {
    const bare = value.replace(/^\/+/, '');
    // This machine has no certificate for itself.
    const scheme = isLoopbackHost(bare.split(/[/?#:]/, 1)[0] ?? '') ? 'http' : 'https';
    value = `${scheme}://${bare}`;
    changed.push(`${scheme}:// was put before it.`);
  }
  if (/^[a-z]+:\/\/[^/?#]*[A-Z]/i.test(value)) {
    const lower = value.replace(/^[a-z]+:\/\/[^/?#]+/i, (origin) => origin.toLowerCase());
    if (lower !== value) changed.push('The host is written in lower case.');
    value = lower;
  }
  if (value.includes('#')) {
    value = value.slice(0, value.indexOf('#'));
    changed.push('The part after # was taken away: it never reaches a server.');
  }
  return { value, changed };
}

/** A list of scopes pasted in any form: lines, commas, spaces, quotes, JSON, bullets, or with a comment after each. */
export function tidyScopes(typed: string): Tidied<string[]> {
  const changed: string[] = [];
  const text = typed.trim();
  let parts: string[];
  try {
    const parsed: unknown = JSON.parse(text);
    parts = Array.isArray(parsed) ? parsed.map(String) : typeof parsed === 'object' && parsed !== null ? Object.keys(parsed) : String(parsed).split(/\s+/);
    changed.push('Read as JSON.');
  } catch {
    const lines = text.split(/\r?\n/).map((line) => line.replace(/^\s*(?:[-*\u2022]|\d+[.)])\s+/, '').replace(/\s+(?:[-\u2013\u2014#]|\/\/)\s.*$/, ''));
    if (lines.join('\n') !== text) changed.push('Bullets and remarks were taken away.');
    parts = lines.flatMap((line) => line.split(/[\s,;|]+/));
    if (/[,;|]/.test(text)) changed.push('Commas and the like were taken as separators.');
  }
  const bare = parts.map((part) => part.replace(/^["'`<]+|["'`>]+$/g, '')).filter(Boolean);
  if (bare.some((part, at) => part !== parts.filter(Boolean)[at])) changed.push('Quotes were taken away.');
  const value = [...new Set(bare)];
  if (value.length < bare.length) changed.push('Duplicate scopes were removed.');
  return { value, changed };
}

/** An id as it was pasted: spaces and line breaks around it, or quotes, never belong to it. */
export function tidyId(typed: string): Tidied<string> {
  const value = typed
    .trim()
    .replace(/^(["'`])(.*)\1$/, '$2')
    .trim();
  return { value, changed: value === typed ? [] : ['Spaces or quotes around it were taken away.'] };
}
