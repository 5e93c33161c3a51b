import { z } from 'zod';
import { CALL_CAUSES } from '../diagnosis/causes.ts';
import { DeclaredPaging } from '../paging/plan.ts';
import { isZone } from '../quota/zones.ts';
import { DefaultHeaders } from './dialect.ts';
import { headerName, jsonPointer, printable, ScopeName, webAddress } from './web-address.ts';

/** A header that may carry a token or a key: none that decides who is asked, or where a message ends. */
const carrier = headerName.refine(
  (name) => !['host', 'content-length', 'transfer-encoding', 'connection', 'cookie', 'upgrade', 'te', 'trailer'].includes(name),
  {
    error: 'This header is set by the service itself.',
  },
);

const METHODS = ['GET', 'HEAD', 'POST', 'PUT', 'PATCH', 'DELETE'] as const;
const path = z
  .string()
  .max(500)
  .regex(/^\/[^\s]*$/, { error: 'The path starts with / and holds no spaces.' });

const isJson = (text: string): boolean => {
  try {
    return JSON.parse(text) !== undefined;
  } catch {
    return false; // said by the schema
  }
};

/** The call that verifies one capability. One with effects is made only when someone asks for it. */
const Probe = z
  .strictObject({
    capability: z.enum(['reading', 'writing']).default('reading'),
    method: z.enum(['GET', 'HEAD', 'POST', 'PUT']).default('GET'),
    path,
    effects: z.boolean().default(false).describe('It changes something at the provider, or someone sees it'),
    needs: z.array(ScopeName).default([]).describe('One of these scopes is needed'),
    body: z.string().max(4000).refine(isJson, { error: 'It is no JSON.' }).optional().describe('What is sent, as JSON text; with POST and PUT'),
  })
  .refine((probe) => probe.effects || probe.method === 'GET' || probe.method === 'HEAD', {
    error: 'A probe without effects is a GET or HEAD.',
    path: ['method'],
  });
export type Probe = z.output<typeof Probe>;

/** One operation of an API, with the scopes it needs: any one of the lists, and all scopes of that list. */
const Operation = z.strictObject({
  id: z.string().regex(/^[A-Za-z0-9][A-Za-z0-9._-]{0,80}$/, { error: 'Letters, digits, dots, underscores and hyphens.' }),
  method: z.enum(METHODS),
  path,
  says: z.string().max(200).default(''),
  needs: z.array(z.array(ScopeName).max(20)).max(20).default([]).describe('Any one of these lists of scopes is enough; left out: none is needed'),
  weight: z.number().int().min(0).max(100_000).default(1).describe('What it costs where a quota counts points'),
  parameters: z
    .array(
      z.strictObject({
        name: z.string().min(1).max(80),
        in: z.enum(['path', 'query', 'header']).default('query'),
        required: z.boolean().default(false),
        says: z.string().max(200).default(''),
        example: z.string().max(200).optional(),
      }),
    )
    .max(60)
    .default([])
    .describe('What it takes beside a body'),
  paging: DeclaredPaging.optional().describe('How its list is cut into pages, where it differs from the API\u2019s other lists'),
  body_example: z.string().max(4000).refine(isJson, { error: 'It is no JSON.' }).optional().describe('A body to begin with, as JSON text'),
});
export type Operation = z.output<typeof Operation>;

const Quota = z.strictObject({
  window: z.enum(['minute', 'hour', 'day']),
  most: z.number().int().min(1),
  unit: z.enum(['calls', 'points']).default('calls'),
  zone: z
    .string()
    .max(60)
    .default('UTC')
    .refine(isZone, { error: 'No time zone of that name, such as Europe/Oslo.' })
    .describe('IANA time zone in which the window begins'),
  of: z.enum(['client', 'connection']).default('client').describe('Whose calls are counted together'),
});
export type Quota = z.output<typeof Quota>;

const word = z.string().regex(/^[\x21-\x7e]{0,40}$/);
/** The second step that turns an access token into a session token and a base URL. */
const SessionStep = z.strictObject({
  method: z.enum(['POST', 'PUT', 'GET']).default('POST'),
  path: path.describe('Below the base URL; asked with the access token, as the API takes it'),
  body: z.string().max(4000).refine(isJson, { error: 'It is no JSON.' }).optional().describe('What is sent, as JSON text'),
  token_at: jsonPointer.describe('Where the session token stands in the answer'),
  base_url_at: jsonPointer.optional().describe('Where the address stands at which the session is good; its host is one of api_hosts'),
  life_at: jsonPointer.optional().describe('Where the lifetime stands, in seconds'),
  life_seconds: z.number().int().min(10).max(604_800).default(900).describe('The life where none is named'),
  token_header: carrier.default('authorization').describe('The header that carries the session token'),
  token_word: word.default('Bearer').describe('The word before it; empty: the session token alone'),
});
export type SessionStep = z.output<typeof SessionStep>;

export const Api = z.strictObject({
  name: z.string().regex(/^[a-z][a-z0-9-]{0,40}$/),
  title: z.string().min(1).max(80),
  base_url: webAddress('base_url'),
  token_header: carrier.default('authorization').describe('The header that carries the token'),
  token_word: z
    .string()
    .regex(/^[\x21-\x7e]{0,40}$/)
    .default('Bearer')
    .describe('The word before the token; empty: the token alone'),
  headers: DefaultHeaders.default({}).describe('Sent with every call'),
  static_key: z
    .strictObject({
      header: carrier,
      word: z
        .string()
        .regex(/^[\x21-\x7e]{0,40}$/)
        .default('')
        .describe('The word before the key; empty: the key alone'),
    })
    .optional()
    .describe('How a static key is sent where the API also takes one; left out: it takes none'),
  error_at: jsonPointer.optional().describe('Where an error answer names its code; left out: /error'),
  error_meanings: z.record(printable(100), z.enum(CALL_CAUSES)).default({}).describe('The API\u2019s own error codes, and what each means'),
  session: SessionStep.optional().describe('A second step before any call'),
  rate_headers: z
    .strictObject({
      left: headerName.optional().describe('How much of the quota is left'),
      resets_after: headerName.optional().describe('In how many seconds it resets'),
    })
    .optional()
    .describe('Headers of its answers that tell how much of the quota is left'),
  paging: DeclaredPaging.optional().describe('How its lists are cut into pages'),
  quota: z.array(Quota).max(5).default([]),
  probes: z.array(Probe).max(4).default([]),
  operations: z.array(Operation).max(2000).default([]),
});
export type Api = z.output<typeof Api>;

/** The headers of a call to this API with its token (RFC 6750 §2.1, or the word and header that the API wants). */
export const callHeaders = (api: Pick<Api, 'token_header' | 'token_word' | 'headers'>, token: string): Record<string, string> => ({
  accept: 'application/json',
  ...api.headers,
  [api.token_header]: api.token_word === '' ? token : `${api.token_word} ${token}`,
});

/** The API as it is called in a session that was opened: with the session's token, at its address. */
export const inSession = (api: Api, opened: { baseUrl: string | null }): Api =>
  api.session === undefined
    ? api
    : { ...api, base_url: opened.baseUrl ?? api.base_url, token_header: api.session.token_header, token_word: api.session.token_word };

/** True for a path without its query that fits an operation's path, whose `{names}` stay within one segment each. */
export { fitsPath as fitsOperation } from './template.ts';

/** The definition as a static key meets it: each API that takes one gets it as it wants it. */
export const withStaticKey = <D extends { apis: Api[] }>(definition: D): D => ({
  ...definition,
  apis: definition.apis.map((api) => (api.static_key ? { ...api, token_header: api.static_key.header, token_word: api.static_key.word } : api)),
});

/** Every capability that a probe verifies, by the name under which its proof is kept. */
export const capabilitiesOf = ({ apis }: { apis: readonly Api[] }): { name: string; api: Api; probe: Probe }[] =>
  apis.flatMap((api, at) => api.probes.map((probe) => ({ name: at === 0 ? probe.capability : `${api.name}-${probe.capability}`, api, probe })));

/** True where one of the scopes is enough for a probe; `requested` null: the connection states none. */
const isFor = (probe: Probe, requested: readonly string[] | null): boolean =>
  requested === null || probe.needs.length === 0 || probe.needs.some((scope) => requested.includes(scope));

/**
 * The call that verifies a connection: the first without effects that it requests the scopes for, API by API. A connection with fewer scopes than
 * its client is not tested by what it is not for; one whose scope was unticked is. Undefined: nothing can be verified with these scopes.
 */
export const probeOf = ({ apis }: { apis: readonly Api[] }, requested: readonly string[] | null): Probe | undefined =>
  apis.flatMap((api) => api.probes).find((probe) => !probe.effects && isFor(probe, requested));

/** Where a probe goes: a path of the first API, or a whole address of another one. */
export const addressOfProbe = ({ apis }: { apis: readonly Api[] }, probe: Probe): string => {
  const api = apis.find((one) => one.probes.includes(probe));
  return !api || api === apis[0] ? probe.path : `${api.base_url.replace(/\/$/, '')}${probe.path}`;
};

/** A probe without effects reads. */
export const methodOfProbe = (probe: Probe): 'GET' | 'HEAD' => (probe.method === 'HEAD' ? 'HEAD' : 'GET');
