import type { z } from 'zod';
import type { CallRequest, CallsRead, ComposedCall, CurlLine, OfferedCalls, TriedCall } from '../../api/trying.ts';
import { type ApiCall, fillCall, isRead, namesIn, pathAndQuery, whyNoHeader } from '../../core/calls/call.ts';
import type { ReadCall } from '../../core/calls/curl.ts';
import { harOf } from '../../core/calls/har.ts';
import { maskedCall } from '../../core/calls/secret-values.ts';
import { MASK } from '../../core/calls/stored-values.ts';
import { allows } from '../../core/clients/privilege.ts';
import { Fault } from '../../core/fault.ts';
import type { Api } from '../../core/provider/api.ts';
import { type ApiAddress, apiAddress, type Callable, callGrant, connectionDefinition, headersOf } from '../grants/index.ts';
import type { Command } from '../operation-call.ts';
import { findKnown } from './find.ts';
import type { ConnectionParts } from './parts.ts';
import { callableNow } from './probe.ts';
import { relayBase, relayLine } from './relay-line.ts';
import { namedCall, savedCalls } from './saved-calls.ts';

/** A person waits for so long at most where a quota is used up; after that it is said when to try again. */
const QUOTA_PATIENCE_MS = 5_000;

/** What can be tried on a connection: the operations of its APIs, and the calls that someone saved. */
export async function offeredCalls(s: ConnectionParts, name: string): Promise<z.output<typeof OfferedCalls>> {
  const one = await findKnown(s, name);
  const { definition, record } = await connectionDefinition(s, one);
  const [first] = definition.apis;
  const held = one.grantedScopes ?? one.scopes;
  return {
    environment: one.environment,
    rehearsal: one.rehearsal,
    base_url: first?.base_url ?? '',
    relay_url: relayBase(s, name),
    placeholders: { ...record.placeholders, ...one.placeholders },
    operations: definition.apis.flatMap((api) =>
      api.operations.map((operation) => ({
        id: operation.id,
        api: api.title,
        method: operation.method,
        path: api === first ? operation.path : `${api.base_url.replace(/\/$/, '')}${operation.path}`,
        says: operation.says,
        needs: operation.needs,
        allowed: allows(held, operation),
        weight: operation.weight,
        parameters: parametersOf(operation),
        body: operation.body_example ?? null,
      })),
    ),
    saved: await savedCalls(s, one.id),
  };
}

/** Those that the definition describes, and those whose names stand in the path. */
function parametersOf(operation: Api['operations'][number]): OfferedCalls['operations'][number]['parameters'] {
  const described = operation.parameters.map(({ name, in: where, required, says, example }) => ({ name, in: where, required, says, example: example ?? '' }));
  const inPath = [...operation.path.matchAll(/\{([^/{}]+)\}/g)].map((match) => match[1] as string);
  const lacking = inPath.filter((name) => !described.some((one) => one.in === 'path' && one.name === name));
  return [...lacking.map((name) => ({ name, in: 'path' as const, required: true, says: '', example: '' })), ...described];
}

/** What names a call: composed, or saved with the connection. */
type CallInput = Pick<z.output<typeof CallRequest>, 'saved' | 'from' | 'path' | 'values' | 'method' | 'query' | 'headers' | 'body'>;

/** The call that is meant, with everything filled in. @throws {Fault} NOT_FOUND, INPUT_INVALID */
async function readyCall(s: Pick<ConnectionParts, 'store'>, input: CallInput, x: Callable & { connectionId: string }): Promise<ApiCall> {
  const { saved, from, path, values: given, method, query, headers, body } = input;
  const sent = path === undefined ? undefined : { method, path, query, headers, body, from };
  const { call: composed, parameters, values } = await namedCall(s, x.connectionId, { saved, call: sent, values: given });
  const { call, lacking } = fillCall(composed, parameters, { ...x.placeholders, ...values });
  // A name that is left in the path means nothing to the API.
  const unfilled = [...new Set([...lacking, ...namesIn({ ...call, query: [], headers: [], body: null })])];
  if (unfilled.length > 0)
    throw new Fault('INPUT_INVALID', { places: unfilled.map((name) => ({ path: `values.${name}`, why: 'It is filled in at each call, and no value came.' })) });
  return call;
}

/** @throws {Fault} HOST_NOT_LISTED, INPUT_INVALID for a header that cannot be composed */
export function addressOf(x: Pick<Callable, 'definition'>, call: ApiCall): ApiAddress {
  const address = apiAddress(x.definition, pathAndQuery(call));
  const wrong = call.headers.flatMap(({ name, value }) => {
    const why = whyNoHeader(name, value, address.api.token_header);
    return why === null ? [] : [{ path: `headers.${name}`, why }];
  });
  if (wrong.length > 0) throw new Fault('INPUT_INVALID', { places: wrong });
  return address;
}

/** Makes a call with the connection's token. @throws {Fault} WRITE_ON_LIVE, QUOTA_USED_UP, HOST_NOT_LISTED, and what a token issuance throws */
export async function callConnection(s: ConnectionParts, { params, body: input, actor }: Command<'callConnection'>): Promise<z.output<typeof TriedCall>> {
  const { connection: name } = params;
  const operator = actor.operator.name;
  const x = await callableNow(s, name);
  const call = await readyCall(s, input, x);
  const address = addressOf(x, call);
  const { api } = address;
  const isRehearsal = x.client.rehearsalPort !== null;
  if (!isRead(call.method) && x.client.environment === 'live' && !isRehearsal && !input.effects)
    throw new Fault('WRITE_ON_LIVE', { detail: `${call.method} ${new URL(address.url).pathname} at ${x.definition.title}, which is live.` });
  const what = { method: call.method, headers: call.headers, ...(call.body === null ? {} : { body: call.body }) };
  const answer = await callGrant(s, { grant: x.grant, address, what, about: x.about }, QUOTA_PATIENCE_MS);
  s.history.add({
    actor: operator,
    kind: 'called',
    subject: `connection:${name}`,
    says: `${call.method} ${new URL(address.url).pathname} answered ${answer.status ?? answer.reason}.`,
  });
  // What a saved call holds is sent, and not shown: to look at it is an operation of its own.
  const shown = (input.saved ?? input.from) === undefined ? call : maskedCall(call, MASK);
  const headers = Object.entries(headersOf(api, { ...what, headers: shown.headers }, '[secret]')).map(([header, value]) => ({ name: header, value }));
  const request = { headers, body: shown.body };
  const url = shown === call ? answer.url : addressOf(x, shown).url;
  const exchanged =
    answer.status === null
      ? null
      : { status: answer.status, headers: answer.headers ?? [], body: answer.body, bodyBytes: answer.bytes ?? 0, contentType: answer.content_type };
  return {
    ...answer,
    url,
    environment: x.client.environment,
    rehearsal: isRehearsal,
    request,
    curl: relayLine(s, name, x.definition, shown),
    har: harOf({ method: call.method, url, startedAt: Date.parse(answer.at), tookMs: answer.took_ms, request, answer: exchanged }, s.version) as Record<
      string,
      unknown
    >,
  };
}

/** Calls out of a curl line or a HAR file, those that go to this connection's API. @throws {Fault} INPUT_INVALID */
export async function readCalls(s: ConnectionParts, name: string, text: string): Promise<z.output<typeof CallsRead>> {
  const { definition } = await connectionDefinition(s, await findKnown(s, name));
  const read = await s.documents.read('calls', text);
  if (typeof read === 'string') throw new Fault('INPUT_INVALID', { places: [{ path: 'text', why: read }] });
  const found: z.output<typeof CallsRead> = { items: [], refused: [] };
  for (const one of Array.isArray(read) ? read : [read]) {
    const call = belongs(s, name, definition.apis, one);
    if (typeof call === 'string') found.refused.push(call);
    else found.items.push({ call, left_out: one.leftOut });
  }
  return found;
}

function belongs(s: Pick<ConnectionParts, 'settings'>, name: string, apis: readonly Api[], read: ReadCall): z.output<typeof ComposedCall> | string {
  const { url, call } = read;
  const method = call.method;
  if (!['GET', 'HEAD', 'POST', 'PUT', 'PATCH', 'DELETE', 'OPTIONS'].includes(method)) return `${method} ${url.slice(0, 200)}: this method is not sent.`;
  const bases = [relayBase(s, name), ...apis.map((api) => api.base_url.replace(/\/$/, ''))];
  const at = bases.findIndex((base) => url === base || url.startsWith(`${base}/`) || url.startsWith(`${base}?`));
  const whole = at < 0 && url.startsWith('/') ? url : null;
  if (at < 0 && whole === null)
    return `${url.split('?')[0]?.slice(0, 200)}: it belongs to none of the addresses of this connection (${bases.slice(1).join(', ')}).`;
  // Below the relay or the first API a path is enough; below another the whole address says which.
  const path = whole ?? (at <= 1 ? url.slice((bases[at] as string).length) || '/' : url);
  return { method: method as 'GET', path, query: [], headers: call.headers, body: call.body };
}

export async function writeCurl(s: ConnectionParts, name: string, call: z.output<typeof ComposedCall>): Promise<z.output<typeof CurlLine>> {
  const one = await findKnown(s, name);
  const { definition, record } = await connectionDefinition(s, one);
  const { call: filled } = fillCall(call, [], { ...record.placeholders, ...one.placeholders });
  return { line: relayLine(s, name, definition, filled) };
}
