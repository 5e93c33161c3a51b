import { randomBytes } from 'node:crypto';
import type { ServerParts } from './server-parts.ts';

/** What a token endpoint answers, and how this provider reports it. */
export interface Answer {
  status: number;
  body: Record<string, unknown>;
  /** The standard error that it stands for, whatever words were used. */
  error: string | null;
}

export const opaque = (prefix: string): string => `${prefix}${randomBytes(24).toString('base64url')}`;

/** Puts a value at a JSON pointer. */
export function put(body: Record<string, unknown>, pointer: string, value: unknown): void {
  const steps = pointer.slice(1).split('/');
  let at = body;
  for (const step of steps.slice(0, -1)) {
    at[step] ??= {};
    at = at[step] as Record<string, unknown>;
  }
  at[steps.at(-1) ?? ''] = value;
}

/** An error as this provider reports it: RFC 6749 §5.2, or in words and at a place of its own, with status 200. */
export function refusal(parts: Pick<ServerParts, 'definition'>, status: number, error: string, description: string): Answer {
  const { error_at: place, error_words: words } = parts.definition.dialect;
  if (!place) return { status, body: { error, error_description: description }, error };
  const body: Record<string, unknown> = { message: description };
  put(body, place, Object.entries(words).find(([, standard]) => standard === error)?.[0] ?? error);
  return { status: 200, body, error };
}

export const scopesOf = (parts: Pick<ServerParts, 'definition'>, scope: string): string[] =>
  scope.split(parts.definition.dialect.scope_separator).filter(Boolean);
