import type { IncomingMessage } from 'node:http';
import { overrides, type Permission, RELAY_METHODS, relayPermission } from '../../core/callers/permissions.ts';
import { isPlainPath } from '../../core/calls/path.ts';
import { Fault } from '../../core/fault.ts';
import { readPersonSegment } from '../../core/people/person-key.ts';
import type { Api } from '../../core/provider/api.ts';
import type { CallerDirectory, KnownCaller, PermittedConnection, WhoCalls } from '../tokens/index.ts';
import { RELAY_TOKEN_PREFIX, type RelayTokens } from '../tool-sign-ins/index.ts';

export const ROUTE = '/relay/';

/** A call that may be made: who makes it, through what, under which permission. */
export interface Call {
  caller: KnownCaller;
  keyId: string | null;
  connection: PermittedConnection;
  permission: Permission;
  api: Api;
  method: string;
  /** Below the base URL, without and with its query. */
  path: string;
  pathAndQuery: string;
  relayBase: string;
}

interface Parts {
  publicUrl: string;
  callers: Pick<CallerDirectory, 'find' | 'person'>;
  whoCalls: WhoCalls;
  relayTokens: RelayTokens;
  addressOf(request: IncomingMessage): string;
}

/** Who calls; `only`: the one connection for which the access token of a tool is good. */
interface Who {
  caller: KnownCaller;
  keyId: string | null;
  only: string | null;
}

/** Below a shared connection: the person, by the application's own key as one segment, then the path of the API. */
const PERSON_PATH = /^[^/]+\/people\/([^/]{1,2400})(\/.*)?$/;
const OPAQUE = new RegExp(`^Bearer (${RELAY_TOKEN_PREFIX}[A-Za-z0-9_-]+)$`, 'i');
const METHODS: ReadonlySet<string> = new Set(RELAY_METHODS);

/** What a request names: a connection, perhaps one of its APIs, and what lies below. */
interface Target {
  /** As it stands in the address. */
  named: string;
  name: string;
  apiName: string | undefined;
  path: string;
  slash: number;
  query: string;
}

function targetOf(url: string): Target {
  const target = url.slice(ROUTE.length);
  const mark = target.indexOf('?');
  const path = mark < 0 ? target : target.slice(0, mark);
  const slash = path.indexOf('/');
  const named = slash < 0 ? path : path.slice(0, slash);
  // A connection's name holds no ~: what stands after it names one of several APIs.
  const [name = '', apiName] = named.includes('~') ? named.split('~', 2) : [named];
  return { named, name, apiName, path, slash, query: mark < 0 ? '' : target.slice(mark) };
}

/** The permission for a call. @throws {Fault} NOT_PERMITTED */
function permitted(
  request: IncomingMessage,
  { name, query }: Target,
  asked: { caller: KnownCaller; rest: string; connection: PermittedConnection | undefined },
) {
  const { caller, rest, connection } = asked;
  const method = request.method ?? '';
  if (connection?.shared)
    throw new Fault('NOT_PERMITTED', {
      detail: `${name} is shared: it holds a grant for each person.`,
      remedy: `Call ${ROUTE}${name}/people/KEY/\u2026, the key percent-encoded.`,
    });
  const overriding = overrides(request.rawHeaders, query);
  const permission = connection && relayPermission(connection.permissions, method, rest, overriding);
  if (connection && permission) return { connection, permission };
  if (connection && overriding && relayPermission(connection.permissions, method, rest))
    throw new Fault('NOT_PERMITTED', {
      detail: `${caller.name} is limited to certain methods or paths, and a header or _method of this call asks for another.`,
    });
  throw new Fault('NOT_PERMITTED', { detail: `${caller.name} may not send ${method} ${rest.slice(0, 200)} through ${name.slice(0, 63)}.` });
}

/** Reads which call a request asks for. @throws {Fault} METHOD_REFUSED, CALLER_UNKNOWN, PATH_UNSAFE, NOT_PERMITTED, NOT_FOUND */
export function callReader(parts: Parts): (request: IncomingMessage) => Call | Promise<Call> {
  const ofTool = async (opaque: string): Promise<Who> => {
    const found = await parts.relayTokens.check(opaque);
    const caller = found && (await parts.callers.find(found.callerId));
    if (found && caller) return { caller, keyId: null, only: found.connection };
    throw new Fault('CALLER_UNKNOWN', { detail: 'The access token of the tool is unknown, has expired, or its sign-in is over.' });
  };
  const ofCaller = async (request: IncomingMessage): Promise<Who> => ({
    ...(await parts.whoCalls(request.headers.authorization, parts.addressOf(request))),
    only: null,
  });
  const callThrough = (request: IncomingMessage, target: Target, who: Who, person: PersonCall | null): Call => {
    const { named, name, apiName, path, slash, query } = target;
    const own = who.only !== null && who.only !== name ? undefined : who.caller.connections.get(name);
    const rest = person ? person.rest : slash < 0 ? '/' : path.slice(slash);
    if (!isPlainPath(rest)) throw new Fault('PATH_UNSAFE');
    const { connection, permission } = permitted(request, target, { caller: who.caller, rest, connection: person ? person.connection : own });
    const { apis } = connection.setUp;
    const api = apiName === undefined ? apis[0] : apis.find((one) => one.name === apiName);
    if (!api) throw new Fault('NOT_FOUND', { detail: `The APIs of ${name}: ${apis.map((one) => one.name).join(', ')}.` });
    return {
      caller: who.caller,
      keyId: who.keyId,
      connection,
      permission,
      api,
      method: request.method ?? '',
      path: rest,
      pathAndQuery: query === '' ? rest : `${rest}${query}`,
      relayBase: `${parts.publicUrl}/relay/${named}${person ? `/people/${person.segment}` : ''}`,
    };
  };
  /** A person below a shared connection; null: the path names none. */
  const personCall = async ({ name, path }: Target, { caller, only }: Who): Promise<PersonCall | null> => {
    const own = caller.connections.get(name);
    const found = only === null && (own === undefined || own.shared) ? PERSON_PATH.exec(path) : null;
    if (!found) return null;
    const [segment, rest = '/'] = found.slice(1) as [string, string | undefined];
    const key = readPersonSegment(segment);
    return { segment, rest, connection: (key !== null && (await parts.callers.person(caller, name, key))) || undefined };
  };
  const ask = async (request: IncomingMessage, target: Target): Promise<Call> => {
    const { authorization } = request.headers;
    const opaque = authorization === undefined ? undefined : OPAQUE.exec(authorization)?.[1];
    const who = opaque === undefined ? await ofCaller(request) : await ofTool(opaque);
    return callThrough(request, target, who, await personCall(target, who));
  };
  return (request) => {
    if (!METHODS.has(request.method ?? '')) throw new Fault('METHOD_REFUSED');
    const target = targetOf(request.url ?? '');
    // The everyday case without a wait: a known caller with a connection of its own.
    const known = parts.whoCalls.ready(request.headers.authorization);
    const own = known?.caller.connections.get(target.name);
    if (known && own && !own.shared) return callThrough(request, target, { caller: known.caller, keyId: known.keyId, only: null }, null);
    return ask(request, target);
  };
}

interface PersonCall {
  /** The key as it stands in the address. */
  segment: string;
  rest: string;
  connection: PermittedConnection | undefined;
}
