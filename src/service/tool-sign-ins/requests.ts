import { LRUCache } from 'lru-cache';
import type { SignInRequest } from '../../api/callers.ts';
import { permissionInWords } from '../../core/callers/permissions.ts';
import { readSignInRequest, type SignInRequestProblem, signInLocation } from '../../core/callers/sign-in-request.ts';
import { isRegisteredRedirect } from '../../core/callers/tool-redirect.ts';
import { Fault } from '../../core/fault.ts';
import { base64url, isCallerId } from '../../core/identifiers.ts';
import { boundedCache } from '../bounded-cache.ts';
import { hashOf } from '../hash.ts';
import { iso } from '../iso.ts';
import type { Limits } from '../operation-call.ts';
import { recordId } from '../ports.ts';
import { summaries, TICKS_IN_LISTS } from '../records/index.ts';
import { networkOf, slowDown } from '../slow-down.ts';
import type { SignInRequestRow } from '../store/tool-sign-ins.ts';
import type { CallerDirectory, KnownCaller } from '../tokens/index.ts';
import type { ToolSignInParts } from './parts.ts';

/** What a browser may do when a tool signs in: ask, look, answer. Codes and tokens are `tool-tokens.ts`. */
export interface SignInRequests {
  /** `GET /oauth/authorize` of a tool. @throws {Fault} SIGN_IN_REQUEST_INVALID where a person must read it, SIGN_IN_THROTTLED */
  begin(query: URLSearchParams, address: string): Promise<{ location: string; request?: { id: string; cookie: string } }>;
  holdsCookie(id: string, cookie: string | undefined): Promise<boolean>;
  /** @throws {Fault} SIGN_IN_REQUEST_EXPIRED */
  show(id: string, limits: Limits): Promise<SignInRequest>;
  /** The operator's answer: a connection, or no. @throws {Fault} SIGN_IN_REQUEST_EXPIRED, NOT_PERMITTED */
  answer(id: string, connection: string | null, operator: string): Promise<{ location: string }>;
}

export const SIGN_IN_COOKIE_SECONDS = 900;
const CODE_MS = 60_000;
const MAX_BEGIN = 60;
const MAX_SHOWN = 200;

export const signInCookieName = (id: string): string => `rk_sign_in_${id.replaceAll('-', '')}`;

export function signInRequests(s: Pick<ToolSignInParts, 'store' | 'history' | 'ports' | 'settings'>, callers: CallerDirectory): SignInRequests {
  const { store, ports } = s;
  const { publicUrl } = s.settings;
  const begun = slowDown({ free: MAX_BEGIN, firstWaitMs: 1_000, mostWaitMs: 30_000, forgottenMs: 60_000 });
  /** The last pages shown tell a stranger nothing that a tool's own settings would not. */
  const wrong = (problem: SignInRequestProblem): { location: string } => {
    if (problem.to === 'page') throw new Fault('SIGN_IN_REQUEST_INVALID', { detail: problem.says });
    return {
      location: signInLocation(problem.redirectUri, publicUrl, {
        error: problem.error,
        error_description: problem.says.replaceAll('\u2019', "'"),
        state: problem.state,
      }),
    };
  };
  const open = async (id: string): Promise<{ row: SignInRequestRow; caller: KnownCaller }> => {
    const row = await store.toolSignIns.request(id);
    const record = row && (await store.callers.byId(row.callerId));
    const caller = record && (await callers.find(record.callerId));
    if (!row || !caller || row.expiresAt <= ports.clock.now() || row.phase !== 'asked') throw new Fault('SIGN_IN_REQUEST_EXPIRED');
    return { row, caller };
  };
  return {
    async begin(query, address) {
      const over = begun.enter(networkOf(address));
      if (over > 0) throw new Fault('SIGN_IN_THROTTLED', { retryAfterMs: over });
      const ids = query.getAll('client_id');
      const caller = ids.length === 1 && ids[0] && isCallerId(ids[0]) ? await callers.find(ids[0]) : null;
      if (!caller) throw new Fault('SIGN_IN_REQUEST_INVALID', { detail: 'No caller has the client_id that the tool sent.' });
      const read = readSignInRequest(query, caller, publicUrl);
      if ('problem' in read) return wrong(read.problem);
      const id = recordId(ports);
      const cookie = base64url(ports.random.bytes(32));
      const now = ports.clock.now();
      await store.toolSignIns.addRequest({
        id,
        callerId: caller.id,
        redirectUri: read.wish.redirectUri,
        redirectUriGiven: read.wish.redirectUriGiven,
        state: read.wish.state,
        challenge: read.wish.challenge,
        wished: read.wish.wished,
        cookieHash: hashOf(cookie),
        phase: 'asked',
        connectionId: null,
        operator: null,
        codeHash: null,
        codeEndsAt: null,
        signInId: null,
        expiresAt: now + SIGN_IN_COOKIE_SECONDS * 1000,
        createdAt: now,
      });
      return { location: `${publicUrl}/#/sign-in-requests/${id}`, request: { id, cookie } };
    },
    async holdsCookie(id, cookie) {
      const row = cookie === undefined ? null : await store.toolSignIns.request(id);
      return row !== null && cookie !== undefined && row.cookieHash.equals(hashOf(cookie));
    },
    async show(id, limits) {
      const { row, caller } = await open(id);
      const record = await store.callers.byId(caller.id);
      const own = [...caller.connections.values()].filter((one) => !one.shared).map((one) => one.name);
      const within = limits === undefined ? new Set(own) : await store.limits.connectionsWithin(own, limits);
      const wished = row.wished !== null && within.has(row.wished) ? row.wished : null;
      const names = [...new Set([...(wished === null ? [] : [wished]), ...[...within].sort()])].slice(0, MAX_SHOWN);
      const summed = await summaries(s, await store.connectionList.read({ names }), TICKS_IN_LISTS);
      const shown = summed.map(({ name, provider_title, environment, account, state }) => ({
        name,
        provider_title,
        environment,
        account,
        state,
        says: (caller.connections.get(name)?.permissions ?? []).map(permissionInWords).join('; '),
      }));
      return {
        id,
        caller: caller.name,
        title: record?.title || caller.name,
        returns_to: new URL(row.redirectUri).protocol.startsWith('http') ? new URL(row.redirectUri).origin : new URL(row.redirectUri).protocol,
        pkce: row.challenge !== null,
        wished,
        connections: shown,
        phase: 'asked',
        expires_at: iso(row.expiresAt),
      };
    },
    async answer(id, connection, operator) {
      const { row, caller } = await open(id);
      // Taken from the caller while someone thought about it: nothing is sent there any more, a no neither.
      if (!isRegisteredRedirect(caller.redirectUris, row.redirectUri)) throw new Fault('SIGN_IN_REQUEST_EXPIRED');
      if (connection === null) {
        if (!(await store.toolSignIns.answer(id, { phase: 'ended', operator }))) throw new Fault('SIGN_IN_REQUEST_EXPIRED');
        return { location: signInLocation(row.redirectUri, publicUrl, { error: 'access_denied', state: row.state }) };
      }
      const chosen = caller.connections.get(connection);
      if (!chosen) throw new Fault('NOT_PERMITTED', { detail: `${caller.name} may not use ${connection}.` });
      const code = base64url(ports.random.bytes(32));
      const codeEndsAt = ports.clock.now() + CODE_MS;
      const set = { phase: 'coded' as const, operator, connectionId: chosen.id, codeHash: hashOf(code), codeEndsAt };
      if (!(await store.toolSignIns.answer(id, set))) throw new Fault('SIGN_IN_REQUEST_EXPIRED');
      s.history.add({
        actor: operator,
        kind: 'tool_signed_in',
        subject: `caller:${caller.name}`,
        says: `Let ${caller.name} use ${connection} by signing in${row.challenge === null ? ', without PKCE' : ''}.`,
      });
      return { location: signInLocation(row.redirectUri, publicUrl, { code, state: row.state }) };
    },
  };
}

/** Opaque access tokens of tools that may only relay. */
export interface RelayTokens {
  /** Whose it is and for which connection, or null. One database read at first sight, none afterwards until something changes. */
  check(token: string): Promise<{ callerId: string; connection: string } | null>;
}

export const RELAY_TOKEN_PREFIX = 'rkt_';
const UNKNOWN_KEPT_MS = 2_000;

export function relayTokens(s: Pick<ToolSignInParts, 'store' | 'changes' | 'ports'>): RelayTokens {
  const known = new LRUCache<string, { callerId: string; connection: string; endsAt: number } | { none: true }>(boundedCache(20_000));
  let epoch = 0;
  s.changes.onChange((kind) => {
    if (kind === 'quota') return;
    epoch += 1;
    known.clear();
  });
  return {
    async check(token) {
      const digest = hashOf(token);
      const key = digest.toString('base64');
      let found = known.get(key);
      if (!found) {
        const before = epoch;
        const token = await s.store.toolSignIns.relayToken(digest);
        found = token ?? { none: true };
        if (before === epoch) known.set(key, found, token ? {} : { ttl: UNKNOWN_KEPT_MS });
      }
      return 'none' in found || found.endsAt <= s.ports.clock.now() ? null : { callerId: found.callerId, connection: found.connection };
    },
  };
}
