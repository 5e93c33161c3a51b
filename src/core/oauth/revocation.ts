import { callHeaders } from '../provider/api.ts';
import type { ProviderDefinition } from '../provider/definition.ts';
import type { Secret } from '../secret.ts';
import { authenticateClient, type ClientCredentials } from './client-authentication.ts';
import type { RequestOnce } from './token-request.ts';
import type { WireRequest } from './wire.ts';

const LIMIT_BYTES = 16 * 1024;

/**
 * The request that ends a grant at the provider: RFC 7009 §2.1, or the dialect's own form. Null: the provider has no such request, or
 * there is no token of the kind it wants.
 */
export async function revocationRequest(
  definition: ProviderDefinition,
  credentials: ClientCredentials,
  tokens: { access: Secret; refresh: Secret | null },
  once: RequestOnce,
): Promise<WireRequest | null> {
  const own = definition.dialect.revocation;
  const url = own?.address ?? definition.server.revocation_endpoint;
  if (url === undefined) return null;
  const kind = own?.which ?? 'refresh_token';
  const token = kind === 'access_token' ? tokens.access : (tokens.refresh ?? (own ? null : tokens.access));
  if (!token) return null;
  const common = { url, deadlineMs: once.deadlineMs, limitBytes: LIMIT_BYTES };
  if (own?.place === 'header') {
    const [api] = definition.apis;
    return { ...common, method: own.method, headers: api ? callHeaders(api, token.reveal()) : {} };
  }
  const parameters = new Map<string, string>([[own?.parameter ?? 'token', token.reveal()]]);
  if (!own) parameters.set('token_type_hint', token === tokens.refresh ? 'refresh_token' : 'access_token');
  const headers: Record<string, string> = { ...definition.dialect.token_headers, accept: 'application/json' };
  await authenticateClient(definition, credentials, { parameters, headers }, once);
  if (own?.place === 'query') {
    const address = new URL(url);
    for (const [name, value] of parameters) address.searchParams.set(name, value);
    return { ...common, url: address.href, method: own.method, headers };
  }
  headers['content-type'] = 'application/x-www-form-urlencoded';
  return { ...common, method: own?.method ?? 'POST', headers, body: new URLSearchParams([...parameters]).toString() };
}
