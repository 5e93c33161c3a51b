import type { JSONWebKeySet } from 'jose';
import { LRUCache } from 'lru-cache';
import { at } from '../../core/json.ts';
import { accountOf, checkIdToken } from '../../core/oauth/id-token.ts';
import { asksOpenid } from '../../core/oauth/offline.ts';
import type { FreshTokens } from '../../core/oauth/token-answer.ts';
import { reasonInWords } from '../../core/oauth/wire.ts';
import { callHeaders } from '../../core/provider/api.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import type { Secret } from '../../core/secret.ts';
import type { Ports } from '../ports.ts';

export interface IdentityFound {
  account: { id: string; label: string } | null;
  /** What was opened: the organization, site or sub-account. */
  opened: string | null;
  warning: string | null;
  /** Why the ID token is not what it should be: the tokens are not used before someone decides. */
  odd: string | null;
}

const DEADLINE_MS = 15_000;
const LIMIT_BYTES = 64 * 1024;
const MAX_SHOWN = 300;
const KEYS_KEPT_MS = 10 * 60_000;
const published = new LRUCache<string, JSONWebKeySet>({ max: 100, ttl: KEYS_KEPT_MS });

/**
 * Reads who consented and what was opened: from the token answer or the ID token, or by JSON pointers from one call. An ID token is checked
 * wherever `openid` was requested, and the call must speak of the same person (OpenID Connect Core §5.3.2).
 */
export async function readIdentity(
  ports: Pick<Ports, 'send' | 'clock'>,
  definition: ProviderDefinition,
  tokens: Pick<FreshTokens, 'access' | 'account' | 'idToken'>,
  asked: { scopes: readonly string[]; clientId: string; nonce: string | null },
): Promise<IdentityFound> {
  const nobody: IdentityFound = { account: null, opened: null, warning: null, odd: null };
  const signedIn = await fromIdToken(ports, definition, tokens, asked);
  if (signedIn.odd) return { ...nobody, odd: signedIn.odd };
  if (tokens.account)
    return { ...nobody, account: { id: tokens.account.id.slice(0, MAX_SHOWN), label: tokens.account.label.slice(0, MAX_SHOWN) }, warning: signedIn.warning };
  const found = await fromCall(ports, definition, tokens.access);
  if (signedIn.account === null) return { ...found, warning: found.warning ?? signedIn.warning };
  if (found.account === null) return { ...nobody, account: signedIn.account, opened: found.opened };
  if (definition.identity?.id === '/sub' && found.account.id !== signedIn.account.id)
    return { ...nobody, odd: 'The ID token and the user-info answer speak of two different accounts.' };
  return found;
}

async function fromIdToken(
  ports: Pick<Ports, 'send' | 'clock'>,
  definition: ProviderDefinition,
  { idToken }: Pick<FreshTokens, 'idToken'>,
  asked: { scopes: readonly string[]; clientId: string; nonce: string | null },
): Promise<Pick<IdentityFound, 'account' | 'warning' | 'odd'>> {
  if (!asksOpenid(asked.scopes)) return { account: null, warning: null, odd: null };
  if (!idToken) return { account: null, warning: 'No ID token came, though openid was requested.', odd: null };
  const keys = definition.server.jwks_uri === undefined ? null : await keysAt(ports, definition.server.jwks_uri);
  if (definition.server.jwks_uri !== undefined && keys === null)
    return { account: null, warning: null, odd: 'The keys with which ID tokens are signed could not be read.' };
  const expected = { clientId: asked.clientId, nonce: asked.nonce, now: ports.clock.now() };
  let verdict = await checkIdToken(idToken, definition.server.issuer, { ...expected, keys });
  if (verdict.kind === 'odd' && definition.server.jwks_uri !== undefined) {
    published.delete(definition.server.jwks_uri); // its keys may have changed since they were read
    verdict = await checkIdToken(idToken, definition.server.issuer, { ...expected, keys: await keysAt(ports, definition.server.jwks_uri) });
  }
  if (verdict.kind === 'odd') return { account: null, warning: null, odd: `The ID token was not accepted. ${verdict.why}` };
  return { account: accountOf(verdict.claims), warning: null, odd: null };
}

async function keysAt(ports: Pick<Ports, 'send'>, url: string): Promise<JSONWebKeySet | null> {
  const kept = published.get(url);
  if (kept) return kept;
  const answer = await ports.send({ method: 'GET', url, headers: { accept: 'application/json' }, deadlineMs: DEADLINE_MS, limitBytes: LIMIT_BYTES });
  if (answer.kind !== 'answer' || answer.status !== 200) return null;
  try {
    const keys = JSON.parse(answer.body) as JSONWebKeySet;
    if (!Array.isArray(keys.keys)) return null;
    published.set(url, keys);
    return keys;
  } catch {
    return null; // no JSON: no keys
  }
}

async function fromCall(ports: Pick<Ports, 'send'>, definition: ProviderDefinition, access: Secret): Promise<IdentityFound> {
  const nobody: IdentityFound = { account: null, opened: null, warning: null, odd: null };
  const identity = definition.identity;
  const url = identity?.endpoint ?? definition.server.userinfo_endpoint;
  if (!identity || !url) return nobody;
  const answer = await ports.send({ method: 'GET', url, headers: identityHeaders(definition, url, access), deadlineMs: DEADLINE_MS, limitBytes: LIMIT_BYTES });
  const failed = (why: string): IdentityFound => ({ ...nobody, warning: `The account could not be read: ${why}.` });
  if (answer.kind !== 'answer') return failed(reasonInWords(answer.reason));
  if (answer.status !== 200) return failed(`the provider answered ${answer.status}`);
  let body: unknown;
  try {
    body = JSON.parse(answer.body);
  } catch {
    return failed('the answer is not JSON');
  }
  const text = (pointer: string): string | null => {
    const value = at(body, pointer);
    return typeof value === 'string' || typeof value === 'number' ? String(value).slice(0, MAX_SHOWN) : null;
  };
  const [id, label] = [text(identity.id), text(identity.label)];
  if (id === null) return failed(`there is nothing at ${identity.id} in the answer`);
  return { ...nobody, account: { id, label: label ?? id }, opened: identity.opened ? text(identity.opened) : null };
}

/** An endpoint below an API is called as that API wants it; one of the authorization server as RFC 6750 says. */
function identityHeaders(definition: ProviderDefinition, url: string, access: Secret): Record<string, string> {
  const api = definition.apis.find((one) => url.startsWith(`${one.base_url.replace(/\/$/, '')}/`));
  return api ? callHeaders(api, access.reveal()) : { authorization: `Bearer ${access.reveal()}`, accept: 'application/json' };
}
