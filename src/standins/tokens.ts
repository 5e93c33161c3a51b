import { createHash } from 'node:crypto';
import type { Request } from 'express';
import { WIRE_GRANT_TYPES } from '../core/oauth/grant-kinds.ts';
import { type Answer, opaque, put, refusal, scopesOf } from './answers.ts';
import { checkAssertionGrant, checkClient, type KnownClient } from './client-check.ts';
import { type DeviceRequest, polled } from './device.ts';
import { answeredApi, habitsOf } from './habits.ts';
import type { ServerParts } from './server-parts.ts';
import { signed } from './signing.ts';
import type { GivenGrant, RegisteredClient } from './state.ts';
import { ACCOUNTS, CREW_IDS } from './world.ts';

export interface IssuedCode {
  grantId: string;
  clientId: string;
  redirectUri: string;
  challenge: string | null;
  nonce: string | null;
  offline: boolean;
  endsAt: number;
}
/** Codes and device codes that wait, and codes that were used. */
export interface Waiting {
  codes: Map<string, IssuedCode>;
  used: Set<string>;
  devices: Map<string, DeviceRequest>;
}

const text = (value: unknown): string => (typeof value === 'string' ? value : '');

/** One token request, from who asks to what comes of it. */
export async function tokenAnswer(parts: ServerParts, waiting: Waiting, request: Request): Promise<Answer> {
  const { dialect, server } = parts.definition;
  const json = /^application\/json/i.test(request.headers['content-type'] ?? '');
  if (json !== (dialect.token_request === 'json') && request.headers['content-length'] !== '0')
    return refusal(parts, 400, 'invalid_request', `The body must be ${dialect.token_request === 'json' ? 'JSON' : 'a form'}.`);
  const form = (request.body ?? {}) as Record<string, unknown>;
  const byAssertion = form.grant_type === WIRE_GRANT_TYPES.jwt_bearer;
  const asserted = byAssertion ? await checkAssertionGrant(parts, text(form.assertion)) : null;
  if (byAssertion && !asserted) return refusal(parts, 400, 'invalid_grant', 'The assertion is not good: its key, its audience or its times.');
  if (asserted && asserted.sub === null) return refusal(parts, 400, 'invalid_grant', 'The subject is no account here.');
  const known = asserted?.known ?? (await checkClient(parts, request));
  if (!known) return refusal(parts, 401, 'invalid_client', 'Client authentication failed.');
  const unapproved = notApproved(parts, known.client);
  if (unapproved) return unapproved;
  const body = form;
  const { audience } = habitsOf(parts.definition);
  if (dialect.resource && body.resource !== undefined && body.resource !== dialect.resource)
    return refusal(parts, 400, 'invalid_target', `There is no resource ${text(body.resource)}.`);
  for (const [name, value] of Object.entries(dialect.token_parameters))
    if (body[name] !== value && !(name === 'audience' && audience !== null && text(body.audience) !== ''))
      return refusal(parts, 400, 'invalid_request', `The parameter ${name} is missing or wrong.`);
  for (const [name, value] of Object.entries(dialect.token_headers))
    if (request.headers[name] !== value) return refusal(parts, 400, 'invalid_request', `The header ${name} is missing or wrong.`);
  const grantType = text(body.grant_type);
  if (!server.grant_types_supported.includes(grantType))
    return refusal(parts, 400, 'unsupported_grant_type', `Only ${server.grant_types_supported.join(', ')}.`);
  const asked = { byKey: known.byKey, audience: text(body.audience) };
  if (grantType === 'authorization_code') return exchangeCode(parts, { waiting, known, how: asked }, body);
  if (grantType === 'refresh_token') return refresh(parts, known, text(body.refresh_token), asked);
  if (grantType === WIRE_GRANT_TYPES.device_code) return exchangeDevice(parts, { waiting, known, how: asked }, text(body.device_code));
  return ownToken(
    parts,
    known,
    { scope: dialect.assertion_grant.scope_in === 'claim' && asserted ? asserted.scope : text(body.scope), sub: asserted?.sub ?? '' },
    asked,
  );
}

/** What the token endpoint reports to a client that nobody has approved, in the words by which its definition tells. */
function notApproved(parts: ServerParts, client: RegisteredClient): Answer | null {
  const { state } = client.approval;
  if (state === 'approved') return null;
  const check = parts.definition.dialect.approval_check;
  const word = state === 'not_requested' ? check?.requested[0] : check?.[state][0];
  return refusal(parts, 403, word ?? 'unauthorized_client', 'This client is not approved.');
}

/** How a token was requested, as far as the token shows it. */
interface AskedHow {
  byKey: boolean;
  audience: string;
}

function exchangeDevice(
  parts: ServerParts,
  { waiting, known, how }: { waiting: Waiting; known: KnownClient; how: AskedHow },
  deviceCode: string,
): Answer | Promise<Answer> {
  const device = waiting.devices.get(deviceCode);
  const not = polled(parts, device, known.client);
  if (not || !device) return not ?? refusal(parts, 400, 'invalid_grant', 'The device code is unknown.');
  waiting.devices.delete(deviceCode);
  const grant: GivenGrant = {
    id: opaque('g.'),
    clientId: known.client.id,
    sub: device.sub ?? '',
    scopes: device.granted,
    withdrawn: false,
    refreshes: 0,
    givenAt: parts.now(),
  };
  parts.store.state.grants[grant.id] = grant;
  if (device.offline) pushOut(parts, grant);
  return issue(parts, { grant, withRefresh: device.offline }, how);
}

function exchangeCode(
  parts: ServerParts,
  { waiting, known, how }: { waiting: Waiting; known: KnownClient; how: AskedHow },
  body: Record<string, unknown>,
): Answer | Promise<Answer> {
  const no = (why: string) => refusal(parts, 400, 'invalid_grant', why);
  const printed = parts.store.state.printedCodes[text(body.code)];
  delete parts.store.state.printedCodes[text(body.code)];
  if (printed) {
    waiting.used.add(text(body.code));
    if (printed.clientId !== known.client.id) return no('The code belongs to another script.');
    if (printed.endsAt <= parts.now()) return no('The code has expired.');
    const { clientId, sub, scopes } = printed;
    const grant: GivenGrant = { id: opaque('g.'), clientId, sub, scopes, withdrawn: false, refreshes: 0, givenAt: parts.now() };
    parts.store.state.grants[grant.id] = grant;
    return issue(parts, { grant, withRefresh: true }, how);
  }
  const code = waiting.codes.get(text(body.code));
  waiting.codes.delete(text(body.code));
  if (waiting.used.has(text(body.code))) return no('The code was used before.');
  if (!code || code.clientId !== known.client.id) return no('The code is unknown.');
  waiting.used.add(text(body.code));
  if (code.endsAt <= parts.now()) return no('The code has expired.');
  if (code.redirectUri !== body.redirect_uri) return no('The redirect_uri differs from that of the authorization request.');
  const verified = code.challenge === null || createHash('sha256').update(text(body.code_verifier)).digest('base64url') === code.challenge;
  if (!verified) return no('The code_verifier does not fit.');
  const grant = parts.store.state.grants[code.grantId];
  if (!grant) return no('The grant is gone.');
  if (code.offline) pushOut(parts, grant);
  return issue(parts, { grant, withRefresh: code.offline, nonce: code.nonce }, how);
}

/** So many refresh tokens for each person and client: the oldest goes. */
function pushOut(parts: ServerParts, fresh: GivenGrant): void {
  const most = parts.definition.dialect.refresh_tokens_most;
  if (most === undefined) return;
  const alive = Object.values(parts.store.state.grants).filter((grant) => grant.clientId === fresh.clientId && grant.sub === fresh.sub && !grant.withdrawn);
  for (const grant of alive.slice(0, Math.max(0, alive.length - most))) grant.withdrawn = true;
}

/** RFC 6749 §6, with the dialect's rotation and what it does about a second use. */
function refresh(parts: ServerParts, known: KnownClient, token: string, how: AskedHow): Answer | Promise<Answer> {
  const { dialect } = parts.definition;
  const { state } = parts.store;
  const issued = state.refreshTokens[token];
  const grant = issued ? state.grants[issued.grantId] : undefined;
  const no = (why: string) => refusal(parts, 400, 'invalid_grant', why);
  if (!issued || !grant || grant.clientId !== known.client.id) return no('The refresh token is unknown.');
  if (grant.withdrawn) return no('The grant was withdrawn.');
  const life = parts.definition.reach.find((one) => one.reach === known.client.reach)?.refresh_token_life_seconds;
  if (life !== undefined && grant.givenAt + life * 1000 <= parts.now()) return no('The refresh token of an unpublished client has expired.');
  const { idle_life_seconds: idle, absolute_life_seconds: absolute } = dialect;
  if (absolute !== undefined && grant.givenAt + absolute * 1000 <= parts.now()) return no('The grant has reached its age.');
  if (idle !== undefined && (grant.usedAt ?? grant.givenAt) + idle * 1000 <= parts.now()) return no('The refresh token was not used for too long.');
  if (issued.replacedAt !== null) {
    const inGrace = dialect.reuse === 'grace' && parts.now() <= issued.replacedAt + (dialect.reuse_grace_seconds ?? 0) * 1000;
    if (!inGrace) {
      if (dialect.reuse === 'kills_grant') grant.withdrawn = true;
      parts.count('reuse');
      parts.store.touch();
      return no('The refresh token was used before.');
    }
    parts.count('reuse_in_grace');
  }
  grant.refreshes += 1;
  grant.usedAt = parts.now();
  if (dialect.rotation === 'each_use') issued.replacedAt ??= parts.now();
  if (dialect.renewal_ends_access_token)
    for (const [access, one] of Object.entries(state.accessTokens)) if (one.grantId === grant.id) delete state.accessTokens[access];
  return issue(parts, { grant, withRefresh: dialect.rotation === 'each_use' }, how);
}

/** RFC 6749 §4.4: the client's own token; or, with a subject, one in an account's name (RFC 7523 §2.1). */
function ownToken(parts: ServerParts, known: KnownClient, { scope, sub }: { scope: string; sub: string }, how: AskedHow): Answer | Promise<Answer> {
  const scopes = scopesOf(parts, scope);
  const unknown = scopes.find((one) => !parts.definition.scopes.some((listed) => listed.name === one));
  if (unknown !== undefined) return refusal(parts, 400, 'invalid_scope', `The scope ${unknown} does not exist.`);
  const unregistered = scopes.find((one) => !known.client.scopes.includes(one));
  if (unregistered !== undefined) return refusal(parts, 400, 'invalid_scope', `The scope ${unregistered} is not registered for this client.`);
  const wide = scopes.filter((one) => parts.definition.scopes.some((listed) => listed.name === one && listed.organization));
  if (wide.length > 0 && parts.definition.dialect.admin_consent && !parts.store.state.adminConsented.includes(known.client.id))
    return refusal(parts, 403, 'consent_required', `The organization has not consented to ${wide.join(', ')}.`);
  const id = `own.${known.client.id}${sub && `.${sub}`}`;
  const grant = parts.store.state.grants[id] ?? { id, clientId: known.client.id, sub, scopes, withdrawn: false, refreshes: 0, givenAt: parts.now() };
  parts.store.state.grants[id] = grant;
  grant.refreshes += 1;
  return issue(parts, { grant: { ...grant, scopes }, withRefresh: false }, how);
}

async function issue(
  parts: ServerParts,
  { grant, withRefresh, nonce = null }: { grant: GivenGrant; withRefresh: boolean; nonce?: string | null },
  { byKey, audience }: AskedHow,
): Promise<Answer> {
  const { definition } = parts;
  const { dialect } = definition;
  const places = dialect.token_answer;
  const own = habitsOf(definition);
  const { accessSeconds, accessSecondsMost = accessSeconds } = parts.lives;
  const { namesNoLife, lastingIds } = own;
  const seconds = namesNoLife ? dialect.assumed_life_seconds : accessSeconds + Math.floor(Math.random() * (accessSecondsMost - accessSeconds + 1));
  const lives = { now: parts.now(), seconds };
  const iss = definition.server.issuer ?? '';
  const access =
    own.audience === null
      ? opaque('a.')
      : await signed(
          parts.store,
          { iss, sub: grant.sub || grant.clientId, aud: audience, client_id: grant.clientId, scope: grant.scopes.join(' ') },
          'at+jwt',
          lives,
        );
  parts.store.state.accessTokens[access] = {
    grantId: grant.id,
    scopes: grant.scopes,
    expiresAt: parts.now() + seconds * 1000,
    ...(byKey ? { byKey } : {}),
    ...(audience ? { audience } : {}),
  };
  const body: Record<string, unknown> = {};
  put(body, places.access_token ?? '/access_token', access);
  if (places.token_type === 'checked') body.token_type = 'Bearer';
  if (!namesNoLife) put(body, places.expires_in ?? '/expires_in', dialect.text_numbers ? String(seconds) : seconds);
  put(body, places.scope ?? '/scope', grant.scopes.join(dialect.scope_separator));
  if (withRefresh) {
    const token = opaque('r.');
    parts.store.state.refreshTokens[token] = { grantId: grant.id, replacedAt: null };
    put(body, places.refresh_token ?? '/refresh_token', token);
  }
  const api = answeredApi(definition);
  if (api && places.api_base_url) put(body, places.api_base_url, api);
  const account = ACCOUNTS.find((one) => one.sub === grant.sub);
  if (account && places.account_id) put(body, places.account_id, lastingIds ? CREW_IDS[account.sub] : account.sub);
  if (account && places.account_label) put(body, places.account_label, lastingIds ? account.name : account.email);
  if (account && grant.scopes.includes('openid') && definition.server.jwks_uri)
    body.id_token = await signed(
      parts.store,
      { iss, sub: account.sub, aud: grant.clientId, email: account.email, ...(nonce === null ? {} : { nonce }) },
      'JWT',
      lives,
    );
  parts.store.touch();
  return { status: 200, body, error: null };
}

/** RFC 7009 §2, or the dialect's own way: the grant behind the token ends. */
export async function revoke(parts: ServerParts, request: Request): Promise<Answer> {
  const own = parts.definition.dialect.revocation;
  const given = { ...(request.query as Record<string, unknown>), ...((request.body ?? {}) as Record<string, unknown>) };
  if (own && request.method !== own.method) return refusal(parts, 405, 'invalid_request', 'Another method is wanted.');
  const client = await checkClient(parts, Object.assign(Object.create(request) as Request, { body: given }));
  if (!client) return refusal(parts, 401, 'invalid_client', 'Client authentication failed.');
  const token = text(given[own?.parameter ?? 'token']);
  const { state } = parts.store;
  const grantId = state.refreshTokens[token]?.grantId ?? state.accessTokens[token]?.grantId;
  const grant = grantId === undefined ? undefined : state.grants[grantId];
  if (grant && grant.clientId === client.client.id) grant.withdrawn = true;
  parts.store.touch();
  return { status: 200, body: {}, error: null };
}
