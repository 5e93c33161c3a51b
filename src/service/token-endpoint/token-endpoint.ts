import pTimeout from 'p-timeout';
import { ASSERTION_TYPE } from '../../core/callers/assertion.ts';
import { mayFetch } from '../../core/callers/permissions.ts';
import { Fault } from '../../core/fault.ts';
import { CALLER_ID_PREFIX, isCallerId } from '../../core/identifiers.ts';
import { KEY_LIFE_MS, KEY_LIFE_SHOWN_SECONDS } from '../../core/oauth/grant-kinds.ts';
import type { Ports } from '../ports.ts';
import {
  type ApiToken,
  type ApiTokens,
  type Assertions,
  ascii,
  type CallerCheck,
  type CallerDirectory,
  CHALLENGE,
  credentials,
  type Form,
  type KnownCaller,
  OAUTH_HEADERS,
  type OAuthAnswer,
  type OAuthRequest,
  type PermittedConnection,
  Refusal,
  readForm,
} from '../tokens/index.ts';
import type { Shown, ToolRefusal, ToolTokens } from '../tool-sign-ins/index.ts';
import type { Usage } from '../usage/index.ts';
import { chooseConnection, connectionNamed, nameIn, personNamed, type TokenRequest } from './connection-choice.ts';

export interface TokenEndpoint {
  token(request: TokenRequest): OAuthAnswer | Promise<OAuthAnswer>;
  /** `POST /oauth/revoke` (RFC 7009), for tools that signed in here. */
  revoke(request: OAuthRequest): Promise<OAuthAnswer>;
}

interface Parts {
  publicUrl: string;
  callers: CallerDirectory;
  check: CallerCheck;
  assertions: Assertions;
  tokens: ApiTokens;
  tools: ToolTokens;
  usage: Usage;
  /** True when changes have not been heard of for too long: a key or a permission may have been withdrawn meanwhile. */
  tooBlind(): boolean;
  ports: Pick<Ports, 'clock' | 'log' | 'traces'>;
}

const PLAIN = /^[\x20\x21\x23-\x5b\x5d-\x7e]*$/;
const BASIC = /^Basic\s/i;
const BY_TOOLS = ['authorization_code', 'refresh_token'];

/**
 * `POST /oauth/token`. RFC 6749 §4.4 client credentials of a caller, the connection named once: by `resource` (RFC 8707) or `audience`,
 * by `scope=connection:NAME`, by the path, or not at all where the caller has exactly one. Codes and refresh tokens of tools (§4.1.3,
 * §6). `expires_in` is the true remaining lifetime.
 */
export function tokenEndpoint(parts: Parts): TokenEndpoint {
  const { callers, usage, ports } = parts;
  const resourcePrefix = `${parts.publicUrl}/connections/`; // put together once: a new text for each request costs more than its comparison

  const authenticated = (found: { caller: KnownCaller } | { wrong: string }): { caller: KnownCaller; keyId: null } => {
    if ('wrong' in found) throw new Refusal(401, 'invalid_client', `The caller is not authenticated: ${found.wrong}`, { headers: CHALLENGE });
    return { caller: found.caller, keyId: null };
  };
  const authenticate = async (request: OAuthRequest, form: Form): Promise<{ caller: KnownCaller; keyId: string | null }> => {
    const assertion = form.get('client_assertion');
    if (assertion !== undefined) {
      if (request.authorization !== undefined || form.has('client_secret'))
        throw new Refusal(400, 'invalid_request', 'Authenticate once: with client_assertion, or with id and key.');
      if (form.get('client_assertion_type') !== ASSERTION_TYPE) throw new Refusal(400, 'invalid_request', `client_assertion_type must be ${ASSERTION_TYPE}.`);
      return authenticated(await parts.assertions.ofJwt(assertion, form.get('client_id') ?? null));
    }
    const isByCertificate =
      request.certificate !== undefined &&
      request.authorization === undefined &&
      !form.has('client_secret') &&
      !BY_TOOLS.includes(form.get('grant_type') ?? '');
    if (isByCertificate && request.certificate !== undefined)
      return authenticated(await parts.assertions.ofCertificate(request.certificate, form.get('client_id') ?? null));
    const { id, key } = credentials(request.authorization, form);
    if (key === null) {
      // RFC 6749 §2.3: a client that keeps no secret names itself; its code_verifier or refresh token is what verifies it.
      const caller = isCallerId(id) ? await callers.find(id) : null;
      if (caller?.keepsNoSecret && BY_TOOLS.includes(form.get('grant_type') ?? (form.has('token') ? 'refresh_token' : ''))) return { caller, keyId: null };
      throw new Refusal(401, 'invalid_client', 'Send the caller\u2019s id and key, as Basic or as client_id and client_secret.', { headers: CHALLENGE });
    }
    const checked = await parts.check(id, key, request.address);
    if (!('wrong' in checked)) return checked;
    if (checked.wrong === 'throttled')
      throw new Refusal(401, 'invalid_client', 'Too many wrong keys from this network. Wait, then send the right one.', {
        headers: { ...CHALLENGE, 'retry-after': String(Math.ceil(checked.waitMs / 1000)) },
      });
    const hint = id.startsWith(CALLER_ID_PREFIX) ? '' : ` Caller ids of this service start with ${CALLER_ID_PREFIX}: perhaps a provider\u2019s id was pasted.`;
    throw new Refusal(401, 'invalid_client', `The caller id or its key is wrong.${hint}`, { headers: CHALLENGE });
  };

  /** A person of a shared connection; an unknown one and another caller's answer alike. @throws {Refusal} */
  const personOf = async (caller: KnownCaller, { connection, key }: { connection: string; key: string }): Promise<PermittedConnection> => {
    const found = await callers.person(caller, connection, key);
    if (!found)
      throw new Refusal(
        400,
        'invalid_target',
        `There is no such person for this caller. Name them as resource=${resourcePrefix}NAME/people/KEY, the key percent-encoded.`,
      );
    return found;
  };

  const traced = (request: TokenRequest): Promise<OAuthAnswer> =>
    ports.traces.span('token.issue', {}, async (note) => {
      const answer = await answerFor(request);
      note({ 'http.response.status_code': answer.status });
      return answer;
    });
  /** @param known the caller, where it was authenticated by what is good once */
  const answerFor = async (request: TokenRequest, triesLeft = 3, known: string | null = null): Promise<OAuthAnswer> => {
    const epoch = callers.epoch();
    // Changes not heard of for too long: a key or a permission may have been withdrawn meanwhile.
    if (parts.tooBlind()) throw new Fault('DATABASE_UNAVAILABLE', { detail: 'It has been away for longer than issued tokens may go on without it.' });
    const form = readForm(request);
    const again = known === null ? null : await callers.find(known);
    const { caller, keyId } = again ? { caller: again, keyId: null } : await authenticate(request, form);
    if (request.ownPath !== null && request.ownPath !== caller.tokenPath) throw new Refusal(400, 'invalid_request', 'This path is another caller\u2019s.');
    const grantType = form.get('grant_type');
    if (grantType === undefined) throw new Refusal(400, 'invalid_request', 'grant_type is missing; send grant_type=client_credentials.');
    // A tool that only knows a refresh token box: its word names the connection, and the caller's key is what verifies it.
    const named = grantType === 'refresh_token' && keyId !== null ? /^connection:(\S{1,2500})$/.exec(form.get('refresh_token') ?? '')?.[1] : undefined;
    if (BY_TOOLS.includes(grantType) && named === undefined) return answerTool(grantType, caller, keyId, form);
    if (grantType !== 'client_credentials' && named === undefined)
      throw new Refusal(400, 'unsupported_grant_type', `Taken here: client_credentials, ${BY_TOOLS.join(', ')}.`);
    const person = personNamed(named ?? nameIn(request, form, resourcePrefix));
    const connection = person
      ? await personOf(caller, person)
      : named === undefined
        ? chooseConnection(caller, request, form, resourcePrefix)
        : connectionNamed(caller, named);
    const minimumLifeMs = readMinimumLife(form.get('minimum_life'));
    const answer = await handOut(connection, minimumLifeMs).catch((error: unknown) => {
      usage.count(caller.id, connection, keyId, 'refused');
      ports.log.info(
        { event: 'tokens.rejected', caller: caller.name, connection: connection.name, why: error instanceof Error ? error.message : 'unknown' },
        'token issuance rejected',
      );
      throw error;
    });
    // Something was paused, retired or withdrawn while this waited for a renewal: ask again before it is issued.
    if (callers.epoch() !== epoch && triesLeft > 0) return answerFor(request, triesLeft - 1, form.has('client_assertion') ? caller.callerId : null);
    return handedOut(caller, keyId, connection, answer);
  };

  const knownCaller = (authorization: string | undefined, form: Form): { caller: KnownCaller; keyId: string } | null => {
    if (authorization !== undefined && BASIC.test(authorization) && !form.has('client_secret') && !form.has('client_id'))
      return parts.check.readyHeader(authorization);
    const { id, key } = credentials(authorization, form);
    return key === null ? null : parts.check.ready(id, key);
  };
  /**
   * The everyday case without a wait: a known caller, its key right, a good token in memory. Null: anything else, which `answerFor`
   * answers from the beginning.
   */
  const fromMemory = (request: TokenRequest): OAuthAnswer | null => {
    if (parts.tooBlind() || ports.traces.isOn) return null;
    try {
      const form = readForm(request);
      const known = knownCaller(request.authorization, form);
      if (!known || form.get('grant_type') !== 'client_credentials' || form.get('minimum_life') || form.has('client_assertion')) return null;
      const { caller, keyId } = known;
      if (request.ownPath !== null && request.ownPath !== caller.tokenPath) return null;
      const connection = chooseConnection(caller, request, form, resourcePrefix);
      if (connection.intent !== 'active' || connection.grantId === null || !connection.mayFetch) return null;
      const token = parts.tokens.ready(connection.grantId, connection.setUp);
      return token && handedOut(caller, keyId, connection, tokenAnswer(connection, token, ''));
    } catch {
      return null; // whatever it is happens again there, and is reported
    }
  };
  const handedOut = (caller: KnownCaller, keyId: string | null, connection: PermittedConnection, answer: OAuthAnswer): OAuthAnswer => {
    usage.count(caller.id, connection, keyId, 'token');
    if (ports.log.isLevelEnabled('debug')) ports.log.debug({ event: 'tokens.issued', caller: caller.name, connection: connection.name }, 'token issued');
    return answer;
  };

  const tokenOf = async (connection: PermittedConnection, minimumLifeMs: number): Promise<ApiToken> => {
    const uri = `${parts.publicUrl}/#/connections/${connection.name}`;
    if (connection.intent === 'paused') throw new Refusal(400, 'invalid_target', `The connection ${connection.name} is paused.`, { uri });
    if (connection.shared)
      throw new Refusal(400, 'invalid_target', `${connection.name} is shared: name the person, as resource=${resourcePrefix}${connection.name}/people/KEY.`, {
        uri,
      });
    if (connection.intent === 'revoked' || connection.grantId === null)
      throw new Refusal(400, 'invalid_grant', connection.grantId === null ? 'Nobody has consented to this connection yet.' : 'The connection was revoked.', {
        uri,
      });
    if (!connection.mayFetch)
      throw new Refusal(400, 'invalid_target', `This caller uses ${connection.name} through the relay only: ${parts.publicUrl}/relay/${connection.name}/`, {
        uri,
      });
    if (connection.setUp.session && connection.setUp.unconfirmed)
      throw new Fault('CLIENT_STOPPED', { detail: 'New addresses of the provider are not confirmed yet.' });
    try {
      return await inTime(
        minimumLifeMs === 0
          ? parts.tokens.get(connection.grantId, connection.setUp)
          : parts.tokens.get(connection.grantId, connection.setUp, { minimumLifeMs }),
      );
    } catch (error) {
      if (error instanceof Fault && error.code === 'GRANT_REFUSED' && error.retryAfterMs === undefined)
        throw new Refusal(400, 'invalid_grant', `${error.message} ${error.remedy}`, { uri });
      throw error;
    }
  };
  const handOut = async (connection: PermittedConnection, minimumLifeMs: number): Promise<OAuthAnswer> => {
    const token = await tokenOf(connection, minimumLifeMs);
    const lifeMs = token.expiresAt - token.issuedAt;
    if (minimumLifeMs > lifeMs / 2)
      throw new Refusal(400, 'invalid_request', `minimum_life is at most half of a token\u2019s lifetime, which is ${Math.floor(lifeMs / 2000)} s here.`);
    return tokenAnswer(connection, token, '');
  };
  /** Written by hand: JSON.stringify over a long token costs more than all the checks together. `more`: further members after a comma. */
  const tokenAnswer = (connection: PermittedConnection, token: ApiToken, more: string): OAuthAnswer => {
    // Never more than its own life, whatever a clock says.
    const restSeconds = Math.floor(Math.min(token.expiresAt - ports.clock.now(), token.expiresAt - token.issuedAt) / 1000) - 1;
    const expiresIn = restSeconds > KEY_LIFE_MS / 2_000 ? KEY_LIFE_SHOWN_SECONDS : restSeconds; // a static key
    const extras = token.baseUrl === null ? connection.setUp.extras : connection.setUp.extrasAt(token.baseUrl);
    return {
      status: 200,
      headers: OAUTH_HEADERS,
      body: `{"access_token":${quoted(token.access.reveal())},"token_type":"Bearer","expires_in":${Math.max(expiresIn, 0)},"scope":${quoted(connection.scope)}${extras}${more}}`,
    };
  };

  /** Sign-in for tools: what was shown is spent only when there is a token to answer with. */
  const answerTool = async (grantType: string, caller: KnownCaller, keyId: string | null, form: Form): Promise<OAuthAnswer> => {
    const shown = grantType === 'authorization_code' ? await showCode(caller, form) : await showRefreshToken(caller, form);
    if ('refused' in shown) throw new Refusal(400, 'invalid_grant', shown.refused);
    const connection = caller.connections.get(shown.connection);
    if (!connection) throw new Refusal(400, 'invalid_grant', 'The caller may not use this connection any more.');
    const isRelayOnly = !mayFetch(connection.permissions);
    const token = isRelayOnly ? null : await tokenOf(connection, 0).catch((error: unknown) => Promise.reject(forTool(error, connection)));
    if (isRelayOnly && connection.intent === 'revoked') throw new Refusal(400, 'invalid_grant', 'The connection was revoked.');
    const spent = await shown.spend();
    if (spent === null) throw new Refusal(400, 'invalid_grant', 'It was used twice: someone else has a copy. The sign-in was ended.');
    usage.count(caller.id, connection, keyId, 'token');
    const more = `,"refresh_token":${quoted(spent.refreshToken)}`;
    if (token) {
      await parts.tools.noteHanded(spent.signInId, token.access, token.expiresAt);
      return tokenAnswer(connection, token, more);
    }
    const { token: opaque, seconds } = await parts.tools.relayToken(spent.signInId);
    const members = {
      access_token: opaque,
      token_type: 'Bearer',
      expires_in: seconds,
      scope: connection.scope,
      base_url: `${parts.publicUrl}/relay/${connection.name}`,
    };
    return { status: 200, headers: OAUTH_HEADERS, body: `${JSON.stringify(members).slice(0, -1)}${more}}` };
  };
  const showCode = async (caller: KnownCaller, form: Form): Promise<Shown | ToolRefusal> => {
    const code = form.get('code');
    if (!code) throw new Refusal(400, 'invalid_request', 'code is missing.');
    return parts.tools.showCode(caller, code, form.get('redirect_uri'), form.get('code_verifier'));
  };
  const showRefreshToken = async (caller: KnownCaller, form: Form): Promise<Shown | ToolRefusal> => {
    const token = form.get('refresh_token');
    if (!token) throw new Refusal(400, 'invalid_request', 'refresh_token is missing.');
    return parts.tools.showRefreshToken(caller, token);
  };

  const guarded = async (work: () => Promise<OAuthAnswer>): Promise<OAuthAnswer> => {
    try {
      return await work();
    } catch (error) {
      if (error instanceof Refusal) return error.answer;
      if (error instanceof Fault) return faultAnswer(error);
      ports.log.error({ event: 'tokens.endpoint_failed', cause: error instanceof Error ? error.name : 'unknown' }, 'token endpoint failed');
      return {
        status: 500,
        headers: OAUTH_HEADERS,
        body: JSON.stringify({ error: 'server_error', error_description: 'Something went wrong inside the service.' }),
      };
    }
  };
  return {
    token: (request) => fromMemory(request) ?? guarded(() => traced(request)),
    revoke: (request) =>
      guarded(async () => {
        const form = readForm(request);
        const { caller } = await authenticate(request, form);
        const token = form.get('token');
        if (!token) throw new Refusal(400, 'invalid_request', 'token is missing.');
        await parts.tools.revoke(caller, token);
        return { status: 200, headers: OAUTH_HEADERS, body: '' };
      }),
  };
}

/**
 * A tool throws its refresh token away at `invalid_grant`: only a revoked connection may cost it that. What a person can fix (a pause, a
 * consent that is missing) is temporary to it.
 */
function forTool(error: unknown, connection: PermittedConnection): unknown {
  if (!(error instanceof Refusal) || connection.intent === 'revoked') return error;
  return new Refusal(503, 'temporarily_unavailable', error.message, { headers: { 'retry-after': '30' } });
}

/** A text as JSON; most need no escape. */
const quoted = (text: string): string => (PLAIN.test(text) ? `"${text}"` : JSON.stringify(text));

const faultAnswer = (fault: Fault): OAuthAnswer => ({
  status: 503,
  headers: [...OAUTH_HEADERS, 'retry-after', String(Math.max(1, Math.ceil((fault.retryAfterMs ?? 2_000) / 1000)))],
  body: JSON.stringify({ error: 'temporarily_unavailable', error_description: ascii(fault.message) }),
});

/** `minimum_life`, our extension: the remaining lifetime in seconds that the token must have at least. */
function readMinimumLife(given: string | undefined): number {
  if (given === undefined || given === '') return 0;
  if (!/^\d{1,8}$/.test(given)) throw new Refusal(400, 'invalid_request', 'minimum_life is a whole number of seconds.');
  return Number(given) * 1000;
}

/** Longer than a token issuance waits for a renewal: only a database that is there and does not answer well takes so long. */
const ANSWER_WITHIN_MS = 15_000;

/** @throws {Fault} RENEWAL_PENDING after the deadline; what was begun goes on behind it */
const inTime = <T>(work: Promise<T>): Promise<T> =>
  pTimeout(work, {
    milliseconds: ANSWER_WITHIN_MS,
    fallback: () => {
      throw new Fault('RENEWAL_PENDING', { detail: 'The token was not available in time.', retryAfterMs: 5_000 });
    },
  });
