import { Fault } from '../../core/fault.ts';
import type { Ports } from '../ports.ts';
import {
  type ApiTokens,
  type Assertions,
  ascii,
  type CallerCheck,
  type CallerDirectory,
  type Form,
  type KnownCaller,
  OAUTH_HEADERS,
  type OAuthAnswer,
  type OAuthRequest,
  type PermittedConnection,
  Refusal,
  readForm,
} from '../tokens/index.ts';
import type { ToolTokens } from '../tool-sign-ins/index.ts';
import type { Usage } from '../usage/index.ts';
import { type Authenticated, authentication, BY_TOOLS } from './authentication.ts';
import { chooseConnection, connectionNamed, nameIn, personNamed, type TokenRequest } from './connection-choice.ts';
import { answersForTools } from './for-tools.ts';
import { issuing } from './issuing.ts';

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

/**
 * `POST /oauth/token`. RFC 6749 §4.4 client credentials of a caller, the connection named once: by `resource` (RFC 8707) or `audience`,
 * by `scope=connection:NAME`, by the path, or not at all where the caller has exactly one. Codes and refresh tokens of tools (§4.1.3,
 * §6). `expires_in` is the true remaining lifetime.
 */
export function tokenEndpoint(parts: Parts): TokenEndpoint {
  const { callers, usage, ports, tools } = parts;
  const resourcePrefix = `${parts.publicUrl}/connections/`; // put together once: a new text for each request costs more than its comparison
  const callersOf = authentication(parts);
  const issue = issuing(parts);
  const answerTool = answersForTools({ publicUrl: parts.publicUrl, tools, usage, issuing: issue });

  const connectionFor = async (caller: KnownCaller, request: TokenRequest, form: Form, named: string | undefined): Promise<PermittedConnection> => {
    const person = personNamed(named ?? nameIn(request, form, resourcePrefix));
    if (!person) return named === undefined ? chooseConnection(caller, request, form, resourcePrefix) : connectionNamed(caller, named);
    const found = await callers.person(caller, person.connection, person.key);
    if (found) return found;
    // An unknown one and another caller's answer alike.
    const how = `Name them as resource=${resourcePrefix}NAME/people/KEY, the key percent-encoded.`;
    throw new Refusal(400, 'invalid_target', `There is no such person for this caller. ${how}`);
  };
  const issued = ({ caller, keyId }: Authenticated, connection: PermittedConnection, answer: OAuthAnswer): OAuthAnswer => {
    usage.count(caller.id, connection, keyId, 'token');
    if (ports.log.isLevelEnabled('debug')) ports.log.debug({ event: 'tokens.issued', caller: caller.name, connection: connection.name }, 'token issued');
    return answer;
  };
  const answerWith = async ({ caller, keyId }: Authenticated, connection: PermittedConnection, minimumLifeMs: number): Promise<OAuthAnswer> => {
    try {
      const token = await issue.tokenOf(connection, minimumLifeMs);
      const lifeMs = token.expiresAt - token.issuedAt;
      if (minimumLifeMs > lifeMs / 2)
        throw new Refusal(400, 'invalid_request', `minimum_life is at most half of a token\u2019s lifetime, which is ${Math.floor(lifeMs / 2000)} s here.`);
      return issue.answerOf(connection, token, '');
    } catch (error) {
      usage.count(caller.id, connection, keyId, 'refused');
      const why = error instanceof Error ? error.message : 'unknown';
      ports.log.info({ event: 'tokens.rejected', caller: caller.name, connection: connection.name, why }, 'token issuance rejected');
      throw error;
    }
  };
  /** @param known the caller, where it was authenticated by what is good once */
  const answerFor = async (request: TokenRequest, triesLeft = 3, known: string | null = null): Promise<OAuthAnswer> => {
    const epoch = callers.epoch();
    // Changes not heard of for too long: a key or a permission may have been withdrawn meanwhile.
    if (parts.tooBlind()) throw new Fault('DATABASE_UNAVAILABLE', { detail: 'It has been away for longer than issued tokens may go on without it.' });
    const form = readForm(request);
    const again = known === null ? null : await callers.find(known);
    const who: Authenticated = again ? { caller: again, keyId: null } : await callersOf.ask(request, form);
    const { caller } = who;
    if (request.ownPath !== null && request.ownPath !== caller.tokenPath) throw new Refusal(400, 'invalid_request', 'This path is another caller\u2019s.');
    const grantType = form.get('grant_type');
    if (grantType === undefined) throw new Refusal(400, 'invalid_request', 'grant_type is missing; send grant_type=client_credentials.');
    // A tool that only knows a refresh token box: its word names the connection, and the caller's key is what verifies it.
    const named = grantType === 'refresh_token' && who.keyId !== null ? /^connection:(\S{1,2500})$/.exec(form.get('refresh_token') ?? '')?.[1] : undefined;
    if (BY_TOOLS.includes(grantType) && named === undefined) return answerTool(grantType, who, form);
    if (grantType !== 'client_credentials' && named === undefined)
      throw new Refusal(400, 'unsupported_grant_type', `Taken here: client_credentials, ${BY_TOOLS.join(', ')}.`);
    const connection = await connectionFor(caller, request, form, named);
    const answer = await answerWith(who, connection, readMinimumLife(form.get('minimum_life')));
    // Something was paused, retired or withdrawn while this waited for a renewal: ask again before it is issued.
    if (callers.epoch() !== epoch && triesLeft > 0) return answerFor(request, triesLeft - 1, form.has('client_assertion') ? caller.callerId : null);
    return issued(who, connection, answer);
  };
  const traced = (request: TokenRequest): Promise<OAuthAnswer> =>
    ports.traces.span('token.issue', {}, async (note) => {
      const answer = await answerFor(request);
      note({ 'http.response.status_code': answer.status });
      return answer;
    });

  /**
   * The everyday case without a wait: a known caller, its key right, a good token in memory. Null: anything else, which `answerFor`
   * answers from the beginning.
   */
  const fromMemory = (request: TokenRequest): OAuthAnswer | null => {
    if (parts.tooBlind() || ports.traces.isOn) return null;
    try {
      const form = readForm(request);
      const who = callersOf.ready(request.authorization, form);
      if (!who || form.get('grant_type') !== 'client_credentials' || form.get('minimum_life') || form.has('client_assertion')) return null;
      if (request.ownPath !== null && request.ownPath !== who.caller.tokenPath) return null;
      const connection = chooseConnection(who.caller, request, form, resourcePrefix);
      if (connection.intent !== 'active' || connection.grantId === null || !connection.mayFetch) return null;
      const token = parts.tokens.ready(connection.grantId, connection.setUp);
      return token && issued(who, connection, issue.answerOf(connection, token, ''));
    } catch {
      return null; // whatever it is happens again in `answerFor`, and is reported
    }
  };
  const guarded = (work: () => Promise<OAuthAnswer>): Promise<OAuthAnswer> => work().catch((error: unknown) => answerTo(error, ports.log));
  return {
    token: (request) => fromMemory(request) ?? guarded(() => traced(request)),
    revoke: (request) =>
      guarded(async () => {
        const form = readForm(request);
        const { caller } = await callersOf.ask(request, form);
        const token = form.get('token');
        if (!token) throw new Refusal(400, 'invalid_request', 'token is missing.');
        await tools.revoke(caller, token);
        return { status: 200, headers: OAUTH_HEADERS, body: '' };
      }),
  };
}

/** What went wrong, as an answer. */
function answerTo(error: unknown, log: Ports['log']): OAuthAnswer {
  if (error instanceof Refusal) return error.answer;
  if (error instanceof Fault)
    return {
      status: 503,
      headers: [...OAUTH_HEADERS, 'retry-after', String(Math.max(1, Math.ceil((error.retryAfterMs ?? 2_000) / 1000)))],
      body: JSON.stringify({ error: 'temporarily_unavailable', error_description: ascii(error.message) }),
    };
  log.error({ event: 'tokens.endpoint_failed', cause: error instanceof Error ? error.name : 'unknown' }, 'token endpoint failed');
  return {
    status: 500,
    headers: OAUTH_HEADERS,
    body: JSON.stringify({ error: 'server_error', error_description: 'Something went wrong inside the service.' }),
  };
}

/** `minimum_life`, our extension: the remaining lifetime in seconds that the token must have at least. */
function readMinimumLife(given: string | undefined): number {
  if (given === undefined || given === '') return 0;
  if (!/^\d{1,8}$/.test(given)) throw new Refusal(400, 'invalid_request', 'minimum_life is a whole number of seconds.');
  return Number(given) * 1000;
}
