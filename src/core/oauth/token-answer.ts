import { z } from 'zod';
import { Secret } from '../secret.ts';
import type { WireAnswer, WireOutcome } from './wire.ts';

/** Tokens as they came (RFC 6749 §5.1). */
export interface FreshTokens {
  access: Secret;
  /** Null when the answer brought none: the old one, where there is one, stays good (RFC 6749 §6). */
  refresh: Secret | null;
  /** Milliseconds, counted from the instant at which the request was sent; null when no life was named. */
  lifeMs: number | null;
  /** Null when the answer does not name them: then they are the ones requested (§5.1). */
  scopes: string[] | null;
}

/** What was seen, kept as evidence: never a token, never a body. */
export interface Evidence {
  status: number | null;
  error: string | null;
  description: string | null;
  reason: string | null;
  tookMs: number;
}

/** The failure classes of docs/RENEWAL.md, and the good answer. */
export type TokenOutcome =
  | { kind: 'tokens'; tokens: FreshTokens; evidence: Evidence }
  | { kind: 'unsent'; evidence: Evidence }
  | { kind: 'refused_grant'; evidence: Evidence }
  | { kind: 'client_refused'; evidence: Evidence }
  | { kind: 'set_up_wrong'; evidence: Evidence }
  | { kind: 'busy'; retryAfterMs: number | null; evidence: Evidence }
  /** `raw`: a successful answer that could not be read; it may hold the only copy of a new refresh token. */
  | { kind: 'unclear'; raw?: Secret; evidence: Evidence };

/** The longest token taken, in characters: what the store holds, with room for sealing. */
const TOKEN_MOST = 15_000;

const TokenBody = z.object({
  access_token: z.string().min(1).max(TOKEN_MOST),
  token_type: z.string().regex(/^bearer$/i),
  refresh_token: z.string().min(1).max(TOKEN_MOST).optional(),
  expires_in: z.number().positive().max(1e9).optional(),
  scope: z.string().max(20_000).optional(),
});
const ErrorBody = z.object({ error: z.string().max(100), error_description: z.string().optional() });
const BUSY_AT_MOST_MS = 3_600_000;

/** Sorts what came back from a token endpoint into one of the classes. Unknown members are ignored, as RFC 6749 §5.1 asks. */
export function readTokenOutcome(outcome: WireOutcome): TokenOutcome {
  if (outcome.kind !== 'answer')
    return { kind: outcome.kind, evidence: { status: null, error: null, description: null, reason: outcome.reason, tookMs: outcome.tookMs } };
  const body = parseJson(outcome);
  const evidence: Evidence = { status: outcome.status, error: null, description: null, reason: null, tookMs: outcome.tookMs };
  if (outcome.status >= 200 && outcome.status < 300) return readSuccess(body, outcome.body, evidence);
  const problem = ErrorBody.safeParse(body);
  if (problem.success) {
    evidence.error = problem.data.error;
    evidence.description = plainText(problem.data.error_description ?? null);
  }
  const retryAfterMs = retryAfter(outcome);
  if (outcome.status === 429 || (outcome.status === 503 && (retryAfterMs !== null || evidence.error === 'temporarily_unavailable')))
    return { kind: 'busy', retryAfterMs, evidence };
  if (evidence.error !== null && outcome.status < 500) return classifyError(evidence.error, evidence);
  evidence.reason = outcome.status >= 500 ? 'server_error' : 'unreadable';
  // A 4xx without an OAuth error is no proof that the token was not spent: a gateway may have answered.
  return { kind: 'unclear', evidence };
}

function readSuccess(body: unknown, text: string, evidence: Evidence): TokenOutcome {
  const read = TokenBody.safeParse(body);
  if (!read.success) return { kind: 'unclear', raw: new Secret(text.slice(0, TOKEN_MOST)), evidence: { ...evidence, reason: 'unreadable' } };
  const { access_token, refresh_token, expires_in, scope } = read.data;
  return {
    kind: 'tokens',
    evidence,
    tokens: {
      access: new Secret(access_token),
      refresh: refresh_token === undefined ? null : new Secret(refresh_token),
      lifeMs: expires_in === undefined ? null : expires_in * 1000,
      scopes: scope === undefined ? null : scope.split(' ').filter(Boolean),
    },
  };
}

/** RFC 6749 §5.2. */
function classifyError(error: string, evidence: Evidence): TokenOutcome {
  switch (error) {
    case 'invalid_grant':
      return { kind: 'refused_grant', evidence };
    case 'invalid_client':
    case 'unauthorized_client':
      return { kind: 'client_refused', evidence };
    case 'temporarily_unavailable':
      return { kind: 'busy', retryAfterMs: null, evidence };
    default:
      return { kind: 'set_up_wrong', evidence };
  }
}

function parseJson(answer: WireAnswer): unknown {
  if (answer.cut) return undefined;
  try {
    return JSON.parse(answer.body);
  } catch {
    return undefined; // HTML or nothing: the class says "unreadable", and the status stays as evidence
  }
}

/** `Retry-After` (RFC 9110 §10.2.3) in ms, at most an hour; dates are read against the answer's own `Date`. */
export function retryAfter(answer: WireAnswer): number | null {
  const text = answer.headers['retry-after'];
  if (text === undefined) return null;
  if (/^\d+$/.test(text)) return Math.min(Number(text) * 1000, BUSY_AT_MOST_MS);
  const until = Date.parse(text);
  const from = Date.parse(answer.headers.date ?? '');
  if (Number.isNaN(until) || Number.isNaN(from)) return null;
  return Math.min(Math.max(until - from, 0), BUSY_AT_MOST_MS);
}

/** A provider's own words, made harmless and short: only printable characters, and long opaque runs are masked. */
export function plainText(text: string | null): string | null {
  if (text === null) return null;
  return text
    .replace(/[^\x20-\x7e\u00a0-\uffff]/g, ' ')
    .replace(/[A-Za-z0-9_\-.~+/=]{24,}/g, '[masked]')
    .slice(0, 300);
}
