import { parse as parseForm } from 'node:querystring';
import { LRUCache } from 'lru-cache';
import { RateLimiterMemory } from 'rate-limiter-flexible';
import { Fault } from '../../core/fault.ts';
import { CALLER_ID_PREFIX } from '../../core/identifiers.ts';
import { KEY_LIFE_MS, KEY_LIFE_SHOWN_SECONDS } from '../../core/oauth/grant-kinds.ts';
import type { Ports } from '../ports.ts';
import type { CallerDirectory, KnownCaller, PermittedConnection } from './caller-directory.ts';
import type { Handout } from './handout.ts';
import type { Usage } from './usage.ts';

/** A token request and its answer, free of any HTTP library: a fast lane can share these checks. */
export interface TokenEndpointRequest {
  contentType: string | undefined;
  authorization: string | undefined;
  query: string;
  body: string;
  address: string;
}
export interface TokenEndpointAnswer {
  status: number;
  /** Names and values in turn, as node:http takes them fastest. */
  headers: string[];
  /** JSON. */
  body: string;
}

/** RFC 6749 §5.2, RFC 8707 §2 (`invalid_target`), and our extension for what is temporary. */
type TokenError =
  | 'invalid_request'
  | 'invalid_client'
  | 'invalid_grant'
  | 'unsupported_grant_type'
  | 'invalid_target'
  | 'invalid_scope'
  | 'temporarily_unavailable';

const HEADERS = ['cache-control', 'no-store', 'pragma', 'no-cache', 'content-type', 'application/json', 'x-content-type-options', 'nosniff'];
const WRONG_KEYS_MOST = 10;
const WRONG_KEYS_WINDOW_SECONDS = 60;

class Refusal extends Error {
  readonly answer: TokenEndpointAnswer;
  constructor(status: number, error: TokenError, description: string, more: { headers?: Record<string, string>; uri?: string } = {}) {
    super(description);
    this.answer = {
      status,
      headers: [...HEADERS, ...Object.entries(more.headers ?? {}).flat()],
      body: JSON.stringify({ error, error_description: ascii(description), ...(more.uri ? { error_uri: more.uri } : {}) }),
    };
  }
}

/** RFC 6749 §5.2 allows %x20-21 / %x23-5B / %x5D-7E in a description: no typographic quotes, no double quote, no backslash. */
const ascii = (text: string): string => text.replace(/[\u2018\u2019\u201c\u201d"]/g, "'").replace(/[^\x20-\x7e]|\\/g, '?');

/** For requests that never reach the checks: another method, or a body too large to read. */
export const malformedTokenRequest = (status: number, description: string): TokenEndpointAnswer => new Refusal(status, 'invalid_request', description).answer;

export type TokenEndpoint = (request: TokenEndpointRequest) => Promise<TokenEndpointAnswer>;

/**
 * `POST /oauth/token`: RFC 6749 §4.4 client credentials of a caller, the connection named by `resource` (RFC 8707),
 * or not at all where the caller has exactly one. `expires_in` is the true rest of life.
 */
export function tokenEndpoint(deps: {
  publicUrl: string;
  callers: CallerDirectory;
  handout: Handout;
  usage: Usage;
  /** True when changes have not been heard of for too long: a key or a permission may have been withdrawn meanwhile. */
  tooBlind(): boolean;
  ports: Pick<Ports, 'clock' | 'log'>;
}): TokenEndpoint {
  const { publicUrl, callers, usage, ports } = deps;
  const throttle = new RateLimiterMemory({ points: WRONG_KEYS_MOST, duration: WRONG_KEYS_WINDOW_SECONDS });
  const failing = new LRUCache<string, true>({ max: 50_000, ttl: WRONG_KEYS_WINDOW_SECONDS * 1000 });

  const authenticate = async (request: TokenEndpointRequest, form: Map<string, string>): Promise<{ caller: KnownCaller; keyId: string }> => {
    const { id, key } = credentials(request.authorization, form);
    const gate = `${id}|${request.address}`;
    const state = failing.has(gate) ? await throttle.get(gate) : null; // who never failed costs nothing here
    if (state && state.consumedPoints >= WRONG_KEYS_MOST)
      throw new Refusal(401, 'invalid_client', 'Too many wrong keys from this address; wait a minute.', {
        headers: { 'www-authenticate': 'Basic realm="rusty-kettle"', 'retry-after': String(Math.ceil(state.msBeforeNext / 1000)) },
      });
    const found = await callers.check(id, key);
    if (found) return found;
    failing.set(gate, true);
    await throttle.consume(gate).catch(() => undefined); // over the limit: the next request is told so
    const hint = id.startsWith(CALLER_ID_PREFIX) ? '' : ` Caller ids of this service start with ${CALLER_ID_PREFIX}: perhaps a provider\u2019s id was pasted.`;
    throw new Refusal(401, 'invalid_client', `The caller id or its key is wrong.${hint}`, { headers: { 'www-authenticate': 'Basic realm="rusty-kettle"' } });
  };

  const answerFor = async (request: TokenEndpointRequest, triesLeft = 3): Promise<TokenEndpointAnswer> => {
    const epoch = callers.epoch();
    // Changes not heard of for too long: a key or a permission may have been withdrawn meanwhile.
    if (deps.tooBlind()) throw new Fault('DATABASE_AWAY', { detail: 'It has been away for longer than handouts may go on without it.' });
    const form = readForm(request);
    const { caller, keyId } = await authenticate(request, form);
    const grantType = form.get('grant_type');
    if (grantType === undefined) throw new Refusal(400, 'invalid_request', 'grant_type is missing; send grant_type=client_credentials.');
    if (grantType !== 'client_credentials') throw new Refusal(400, 'unsupported_grant_type', 'Only client_credentials is taken here.');
    if (form.get('scope')) throw new Refusal(400, 'invalid_scope', 'A connection has the scopes that its person granted; leave scope empty.');
    const connection = chooseConnection(caller, form.get('resource'), publicUrl);
    const token = await handOut(deps, connection).catch((error: unknown) => {
      usage.count(caller.id, connection, keyId, 'refused');
      ports.log.info({ caller: caller.name, connection: connection.name, why: error instanceof Error ? error.message : 'unknown' }, 'handout refused');
      throw error;
    });
    // Something was paused, retired or withdrawn while this waited for a renewal: ask again before it is handed out.
    if (callers.epoch() !== epoch && triesLeft > 0) return answerFor(request, triesLeft - 1);
    usage.count(caller.id, connection, keyId, 'token');
    if (ports.log.isLevelEnabled('debug')) ports.log.debug({ caller: caller.name, connection: connection.name }, 'handout');
    return token;
  };
  return async (request) => {
    try {
      return await answerFor(request);
    } catch (error) {
      if (error instanceof Refusal) return error.answer;
      if (error instanceof Fault) return faultAnswer(error);
      ports.log.error({ cause: error instanceof Error ? error.name : 'unknown' }, 'token endpoint failed');
      return { status: 500, headers: HEADERS, body: JSON.stringify({ error: 'server_error', error_description: 'Something went wrong inside the service.' }) };
    }
  };
}

async function handOut(
  deps: { publicUrl: string; handout: Handout; ports: Pick<Ports, 'clock'> },
  connection: PermittedConnection,
): Promise<TokenEndpointAnswer> {
  const uri = `${deps.publicUrl}/#/connections/${connection.name}`;
  if (connection.intent === 'paused') throw new Refusal(400, 'invalid_target', `The connection ${connection.name} is paused.`, { uri });
  if (connection.intent === 'revoked' || connection.grantId === null)
    throw new Refusal(400, 'invalid_grant', connection.grantId === null ? 'Nobody has agreed to this connection yet.' : 'The connection was revoked.', { uri });
  try {
    const token = await deps.handout(connection.grantId);
    const restSeconds = Math.floor((token.expiresAt - deps.ports.clock.now()) / 1000) - 1;
    const expiresIn = restSeconds > KEY_LIFE_MS / 2_000 ? KEY_LIFE_SHOWN_SECONDS : restSeconds; // a static key
    return {
      status: 200,
      headers: HEADERS,
      // Written by hand: JSON.stringify over a long token costs more than all the checks together.
      body: `{"access_token":${quoted(token.access.reveal())},"token_type":"Bearer","expires_in":${Math.max(expiresIn, 0)},"scope":${quoted(connection.scope)}${connection.extras}}`,
    };
  } catch (error) {
    if (error instanceof Fault && error.code === 'GRANT_REFUSED' && error.retryAfterMs === undefined)
      throw new Refusal(400, 'invalid_grant', `${error.message} ${error.remedy}`, { uri });
    throw error;
  }
}

/** A text as JSON; most need no escape. */
const quoted = (text: string): string => (/^[\x20\x21\x23-\x5b\x5d-\x7e]*$/.test(text) ? `"${text}"` : JSON.stringify(text));

const faultAnswer = (fault: Fault): TokenEndpointAnswer => ({
  status: 503,
  headers: [...HEADERS, 'retry-after', String(Math.max(1, Math.ceil((fault.retryAfterMs ?? 2_000) / 1000)))],
  body: JSON.stringify({ error: 'temporarily_unavailable', error_description: ascii(fault.message) }),
});

/** Form body only, no query, no repeated parameter (RFC 6749 §3.2). */
function readForm(request: TokenEndpointRequest): Map<string, string> {
  if (request.query !== '') throw new Refusal(400, 'invalid_request', 'Parameters belong in the body, not in the address.');
  if (!/^application\/x-www-form-urlencoded\s*(;|$)/i.test(request.contentType ?? ''))
    throw new Refusal(400, 'invalid_request', 'The body must be application/x-www-form-urlencoded.');
  const form = new Map<string, string>();
  for (const [name, value] of Object.entries(parseForm(request.body))) {
    if (Array.isArray(value)) throw new Refusal(400, 'invalid_request', `The parameter ${name.slice(0, 40)} is repeated.`);
    form.set(name, value ?? '');
  }
  return form;
}

/** Basic or in the body, never both (RFC 6749 §2.3). */
function credentials(authorization: string | undefined, form: Map<string, string>): { id: string; key: string } {
  const inBody = form.get('client_secret') !== undefined;
  if (authorization === undefined) {
    const [id, key] = [form.get('client_id'), form.get('client_secret')];
    if (id && key) return { id, key };
    throw new Refusal(401, 'invalid_client', 'Send the caller\u2019s id and key, as Basic or as client_id and client_secret.', {
      headers: { 'www-authenticate': 'Basic realm="rusty-kettle"' },
    });
  }
  if (inBody) throw new Refusal(400, 'invalid_request', 'Authenticate once: as Basic, or in the body.');
  const encoded = /^Basic\s+([A-Za-z0-9+/=_-]+)$/i.exec(authorization)?.[1];
  const pair = encoded ? Buffer.from(encoded, 'base64').toString('utf8') : '';
  const colon = pair.indexOf(':');
  if (colon <= 0)
    throw new Refusal(401, 'invalid_client', 'The Authorization header is not Basic with id and key.', {
      headers: { 'www-authenticate': 'Basic realm="rusty-kettle"' },
    });
  const [id, key] = [decode(pair.slice(0, colon)), decode(pair.slice(colon + 1))];
  const named = form.get('client_id');
  if (named !== undefined && named !== id) throw new Refusal(400, 'invalid_request', 'The client_id in the body is another than the one in Basic.');
  return { id, key };
}

/** Our ids and keys hold nothing that form-encoding changes, so that decoding is safe for clients that do not encode. */
const decode = (text: string): string => {
  if (!/[%+]/.test(text)) return text;
  try {
    return decodeURIComponent(text.replaceAll('+', ' '));
  } catch {
    return text;
  }
};

/** Unknown and forbidden answer alike: a caller learns nothing of connections that are not its own. */
function chooseConnection(caller: KnownCaller, resource: string | undefined, publicUrl: string): PermittedConnection {
  if (resource === undefined) {
    const [only, ...more] = [...caller.connections.values()];
    if (only && more.length === 0) return only;
    throw new Refusal(
      400,
      'invalid_target',
      only ? `This caller has several connections: name one by resource=${publicUrl}/connections/NAME.` : 'This caller has no connection yet.',
    );
  }
  const prefix = `${publicUrl}/connections/`;
  const connection = resource.startsWith(prefix) ? caller.connections.get(resource.slice(prefix.length)) : undefined;
  if (!connection) throw new Refusal(400, 'invalid_target', `There is no such connection for this caller. A resource looks like ${prefix}NAME.`);
  return connection;
}
