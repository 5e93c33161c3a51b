import type { Request, Response } from 'express';
import type { SessionStep } from '../core/provider/api.ts';
import { weightOf, windowAt } from '../core/quota/windows.ts';
import { opaque, put, refusal } from './answers.ts';
import { type FoundAccess, findAccess } from './authorization-server.ts';
import { sessionBase } from './habits.ts';
import type { ServerParts } from './server-parts.ts';

/** How long a session lives where nobody orders otherwise. */
const SESSION_SECONDS = 300;

/** The second step: an access token is exchanged for a session token, good at the address that the answer names. */
export function openSession(parts: ServerParts, request: Request, response: Response): void {
  const step = parts.definition.apis[0]?.session;
  const access = findAccess(parts, request, parts.definition.apis[0]);
  parts.count(access ? 'session.opened' : 'session.refused');
  if (!step || !access) {
    const answer = refusal(parts, 401, 'invalid_token', 'The access token is missing, unknown or has expired.');
    return void response.status(401).json(answer.body);
  }
  const token = opaque('ses.');
  const seconds = parts.lives.sessionSeconds ?? SESSION_SECONDS;
  parts.store.state.sessions[token] = { accessToken: tokenOf(request, parts), expiresAt: parts.now() + seconds * 1000 };
  parts.store.touch();
  const body: Record<string, unknown> = {};
  put(body, step.token_at, token);
  if (step.base_url_at) put(body, step.base_url_at, sessionBase(parts.definition));
  if (step.life_at) put(body, step.life_at, seconds);
  response.status(201).json(body);
}

const tokenOf = (request: Request, parts: ServerParts): string =>
  String(request.headers[parts.definition.apis[0]?.token_header ?? ''] ?? '').replace(/^\S+ /, '');

/** Whoever opened the session of a request, while it lives; the access token behind it may have been replaced meanwhile. */
export function accessOfSession(parts: ServerParts, request: Request, step: SessionStep): FoundAccess | null {
  const sent = String(request.headers[step.token_header] ?? '');
  const token = step.token_word === '' ? sent : sent.replace(`${step.token_word} `, '');
  const session = parts.store.state.sessions[token];
  if (!session || session.expiresAt <= parts.now()) return null;
  const issued = parts.store.state.accessTokens[session.accessToken];
  const grant = issued && parts.store.state.grants[issued.grantId];
  const client = grant && parts.store.state.clients[grant.clientId];
  return issued && grant && client?.realm === parts.realm && !grant.withdrawn
    ? { grantId: issued.grantId, scopes: issued.scopes, byKey: issued.byKey === true, client, audience: issued.audience ?? null }
    : null;
}

/** Counts a call in each window of the definition's quota; true: one is used up, and `Retry-After` says for how long. */
export function overQuota(parts: ServerParts, request: Request, response: Response, clientId: string): boolean {
  const [api] = parts.definition.apis;
  if (!api) return false;
  const now = parts.now();
  const path = request.originalUrl.split('?')[0]?.slice(new URL(`${api.base_url.replace(/\/$/, '')}/`).pathname.length - 1) ?? '';
  let waitMs = 0;
  for (const quota of api.quota) {
    const { startAt, endAt } = windowAt(quota, now);
    const key = `${clientId} ${quota.window} ${startAt}`;
    const used = (parts.store.state.used[key] ?? 0) + weightOf(api, quota.unit, request.method, path);
    if (used > quota.most) waitMs = Math.max(waitMs, endAt - now);
    else parts.store.state.used[key] = used;
    if (quota === api.quota[0] && api.rate_headers?.left) response.setHeader(api.rate_headers.left, String(Math.max(0, quota.most - used)));
    if (quota === api.quota[0] && api.rate_headers?.resets_after) response.setHeader(api.rate_headers.resets_after, String(Math.ceil((endAt - now) / 1000)));
  }
  if (waitMs === 0) return false;
  parts.count('api.over_quota');
  response.setHeader('retry-after', String(Math.ceil(waitMs / 1000)));
  return true;
}
