import { z } from 'zod';
import { at, own } from '../json.ts';
import type { Dialect } from '../provider/dialect.ts';
import { Secret } from '../secret.ts';
import { masked } from './masked.ts';
import type { WireAnswer, WireOutcome } from './wire.ts';

/** Tokens as they came (RFC 6749 §5.1). */
export interface FreshTokens {
  access: Secret;
  /** Null when the answer brought none: the old one, where there is one, stays good (RFC 6749 §6). */
  refresh: Secret | null;
  /** Milliseconds, counted from the instant at which the request was sent; null when no lifetime was named. */
  lifeMs: number | null;
  /** Null when the answer does not name them: then they are the ones requested (§5.1). */
  scopes: string[] | null;
  /** Where the dialect states that the answer names the API's address. */
  apiBaseUrl?: string;
  /** Who agreed, where the dialect states that the answer tells. */
  account?: { id: string; label: string };
  /** OpenID Connect Core §3.1.3.3. */
  idToken?: Secret;
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
const MAX_TOKEN = 15_000;
const MAX_BUSY_MS = 3_600_000;
const MAX_LIFE_SECONDS = 1e9;

const Token = z.string().min(1).max(MAX_TOKEN);
const Members = z.object({
  access_token: Token,
  refresh_token: Token.nullish(),
  expires_in: z.number().positive().max(MAX_LIFE_SECONDS).nullish(),
  scope: z.union([z.string().max(20_000), z.array(z.string().max(300)).max(500)]).nullish(),
  token_type: z.string().nullish(),
  api_base_url: z.string().max(1000).nullish(),
  account_id: z.union([z.string().max(300), z.number()]).nullish(),
  account_label: z.union([z.string().max(300), z.number()]).nullish(),
  id_token: z.string().max(MAX_TOKEN).nullish(),
});

/** Sorts what came back from a token endpoint into one of the classes. Unknown members are ignored, as RFC 6749 §5.1 asks. */
export function readTokenOutcome(outcome: WireOutcome, dialect: Dialect): TokenOutcome {
  if (outcome.kind !== 'answer')
    return { kind: outcome.kind, evidence: { status: null, error: null, description: null, reason: outcome.reason, tookMs: outcome.tookMs } };
  const body = parseJson(outcome);
  const evidence: Evidence = { status: outcome.status, error: null, description: null, reason: null, tookMs: outcome.tookMs };
  const ok = outcome.status >= 200 && outcome.status < 300;
  const ownError = dialect.error_at === undefined ? undefined : at(body, dialect.error_at);
  if (ok && (ownError === undefined || ownError === null || ownError === false || ownError === '')) return readSuccess(body, outcome.body, evidence, dialect);
  const named = ownError ?? at(body, '/error');
  const error = typeof named === 'string' || typeof named === 'number' ? String(named).slice(0, 100) : null;
  const safe = (text: string | null) => plainText(text === null ? null : masked(text, outcome.hides ?? []));
  if (error !== null) {
    evidence.error = own(dialect.error_words, error) ?? safe(error);
    const words = [at(body, '/error_description'), at(body, '/message')].find((one) => typeof one === 'string') as string | undefined;
    evidence.description = safe([evidence.error === error ? null : error, words].filter(Boolean).join(': ') || null);
  }
  const retryAfterMs = retryAfter(outcome);
  if (outcome.status === 429 || (outcome.status === 503 && (retryAfterMs !== null || evidence.error === 'temporarily_unavailable')))
    return { kind: 'busy', retryAfterMs, evidence };
  if (evidence.error !== null && outcome.status < 500) return classifyError(evidence.error, evidence);
  evidence.reason = outcome.status >= 500 ? 'server_error' : 'unreadable';
  // A 4xx without an OAuth error is no proof that the token was not spent: a gateway may have answered.
  return { kind: 'unclear', evidence };
}

function readSuccess(body: unknown, text: string, evidence: Evidence, dialect: Dialect): TokenOutcome {
  const places = dialect.token_answer;
  const place = (name: 'access_token' | 'refresh_token' | 'expires_in' | 'scope' | 'api_base_url' | 'account_id' | 'account_label') =>
    places[name] === undefined ? (RFC_6749_5_1.has(name) ? at(body, `/${name}`) : undefined) : at(body, places[name]);
  const life = place('expires_in');
  const read = Members.safeParse({
    access_token: place('access_token'),
    refresh_token: place('refresh_token'),
    expires_in: dialect.text_numbers && typeof life === 'string' && /^\d+(\.\d+)?$/.test(life.trim()) ? Number(life) : life,
    scope: place('scope'),
    token_type: at(body, '/token_type'),
    api_base_url: place('api_base_url'),
    account_id: place('account_id'),
    account_label: place('account_label'),
    id_token: at(body, '/id_token'),
  });
  const typed = places.token_type === 'ignored' || (read.success && /^bearer$/i.test(read.data.token_type ?? ''));
  if (!read.success || !typed) {
    const bound = read.success && /^dpop$/i.test(read.data.token_type ?? ''); // RFC 9449 §5: useless without a proof key
    return { kind: 'unclear', raw: new Secret(text.slice(0, MAX_TOKEN)), evidence: { ...evidence, reason: bound ? 'token_type_dpop' : 'unreadable' } };
  }
  const { access_token, refresh_token, expires_in, scope, api_base_url, account_id, account_label, id_token } = read.data;
  return {
    kind: 'tokens',
    evidence,
    tokens: {
      access: new Secret(access_token),
      refresh: refresh_token == null ? null : new Secret(refresh_token),
      lifeMs: expires_in == null ? null : expires_in * 1000,
      scopes:
        scope == null
          ? null
          : Array.isArray(scope)
            ? scope
            : scope
                .split(dialect.scope_separator)
                .map((one) => one.trim())
                .filter(Boolean),
      ...(api_base_url == null ? {} : { apiBaseUrl: api_base_url }),
      ...(id_token == null ? {} : { idToken: new Secret(id_token) }),
      ...(account_id == null ? {} : { account: { id: String(account_id), label: String(account_label ?? account_id) } }),
    },
  };
}
const RFC_6749_5_1 = new Set(['access_token', 'refresh_token', 'expires_in', 'scope']);

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
export function retryAfter(answer: Pick<WireAnswer, 'headers'>): number | null {
  const text = answer.headers['retry-after'];
  if (text === undefined) return null;
  if (/^\d+$/.test(text)) return Math.min(Number(text) * 1000, MAX_BUSY_MS);
  const until = Date.parse(text);
  const from = Date.parse(answer.headers.date ?? '');
  if (Number.isNaN(until) || Number.isNaN(from)) return null;
  return Math.min(Math.max(until - from, 0), MAX_BUSY_MS);
}

/** A provider's own words, made harmless and short: only printable characters, and long opaque runs are masked. */
export function plainText(text: string | null): string | null {
  if (text === null) return null;
  return text
    .replace(/[^\x20-\x7e\u00a0-\uffff]/g, ' ')
    .replace(/[A-Za-z0-9_\-.~+/=]{24,}/g, '[masked]')
    .slice(0, 300);
}
