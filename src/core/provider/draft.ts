import { parseUrl } from '../url.ts';
import { isWebAddress } from './web-address.ts';

/** A definition in the making: members as plain data, and where each came from. */
export interface Draft {
  /** In the form of a definition file; not checked yet. */
  document: Record<string, unknown>;
  /** Where a value came from, by its path, such as server.token_endpoint. */
  sources: Record<string, string>;
  /** What is missing before connections can be opened; empty: ready. */
  missing: string[];
  /** What was changed of what was typed. */
  tidied: string[];
  /** What is odd, and does not stop it. */
  warnings: string[];
}

/** What a draft is called, and which of it a person gave. */
export interface Named {
  name: string;
  title: string;
  typed?: { name?: string | undefined; title?: string | undefined };
}

/** `typed`: which of both a person gave; the other was made from an address or title. */
export const emptyDraft = (name: string, title: string, typed: { name?: string | undefined; title?: string | undefined } = {}): Draft => ({
  document: { name, title },
  sources: {
    name: typed.name === undefined ? 'made from the address or title' : 'you',
    title: typed.title === undefined ? 'made from the address or title' : 'you',
  },
  missing: [],
  tidied: [],
  warnings: [],
});

/** Puts a value at a path and says where it came from; what is undefined is left out. */
export function put(draft: Draft, path: string, value: unknown, source: string): void {
  if (value === undefined || value === null || value === '' || (Array.isArray(value) && value.length === 0)) return;
  const steps = path.split('.');
  let at = draft.document;
  for (const step of steps.slice(0, -1)) {
    at[step] ??= {};
    at = at[step] as Record<string, unknown>;
  }
  at[steps.at(-1) ?? ''] = value;
  draft.sources[path] = source;
}

/** A name made of a title or host: lower-case letters, digits and hyphens. */
export function nameFrom(text: string): string {
  const host = parseUrl(text.replace(/\{[^{}]*\}\.?/g, ''))
    ?.hostname.replace(/^(www|id|login|auth|api|accounts?)\./, '')
    .split('.')[0];
  const name = (host ?? text)
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, '-')
    .replace(/^[^a-z]+|-+$/g, '')
    .slice(0, 40);
  return name || 'provider';
}

const record = (value: unknown): Record<string, unknown> => (typeof value === 'object' && value !== null ? (value as Record<string, unknown>) : {});

/** Names what is missing before connections can be opened: the ready line. */
export function readyLine(draft: Draft): Draft {
  const server = record(draft.document.server);
  const apis = Array.isArray(draft.document.apis) ? (draft.document.apis as Record<string, unknown>[]) : [];
  const grants = (server.grant_types_supported as string[] | undefined) ?? ['authorization_code'];
  const missing = [
    ...(grants.includes('authorization_code') && !server.authorization_endpoint ? ['the authorization URL'] : []),
    ...(server.token_endpoint ? [] : ['the token URL']),
    ...(apis.length > 0 ? [] : ['the address of an API']),
  ];
  const proof = apis.some((api) => Array.isArray(api.probes) && api.probes.length > 0);
  return {
    ...draft,
    missing,
    warnings: [
      ...draft.warnings,
      ...(apis.length > 0 && !proof ? ['No API call that verifies a connection is named: working means then only that a token came.'] : []),
    ],
  };
}

/** Only what is an address is taken from a document that someone else wrote. */
export const addressOrNothing = (value: unknown): string | undefined => (typeof value === 'string' && isWebAddress(value) ? value : undefined);
