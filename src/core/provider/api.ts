import { z } from 'zod';
import { CALL_CAUSES } from '../diagnosis/causes.ts';
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

/** The call that proves one ability. One with effects is made only when somebody asks for it. */
const Probe = z
  .strictObject({
    ability: z.enum(['reading', 'writing']).default('reading'),
    method: z.enum(['GET', 'HEAD', 'POST', 'PUT']).default('GET'),
    path,
    effects: z.boolean().default(false).describe('It changes something there, or somebody sees it'),
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
});
export type Operation = z.output<typeof Operation>;

const Paging = z.strictObject({
  style: z.enum(['next_link', 'link_header', 'cursor', 'page_number', 'offset']),
  items: jsonPointer.optional().describe('Where the records stand'),
  next: jsonPointer.optional().describe('Where the next link or cursor stands'),
  total: jsonPointer.optional(),
  parameter: printable(40).optional().describe('The query parameter for cursor, page or offset'),
  size_parameter: printable(40).optional(),
  size_most: z.number().int().min(1).max(100_000).optional(),
});
const Quota = z.strictObject({
  window: z.enum(['minute', 'hour', 'day']),
  most: z.number().int().min(1),
  unit: z.enum(['calls', 'points']).default('calls'),
  zone: z.string().max(60).default('UTC').describe('IANA time zone in which the window begins'),
});

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
  paging: Paging.optional(),
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

/** The definition as a static key meets it: each API that takes one gets it as it wants it. */
export const withStaticKey = <D extends { apis: Api[] }>(definition: D): D => ({
  ...definition,
  apis: definition.apis.map((api) => (api.static_key ? { ...api, token_header: api.static_key.header, token_word: api.static_key.word } : api)),
});

/** Every ability that a probe proves, by the name under which its proof is kept. */
export const abilitiesOf = ({ apis }: { apis: readonly Api[] }): { name: string; api: Api; probe: Probe }[] =>
  apis.flatMap((api, at) => api.probes.map((probe) => ({ name: at === 0 ? probe.ability : `${api.name}-${probe.ability}`, api, probe })));

/** The call that proves a connection by itself: the first without effects, of the first API that has one. */
export const probeOf = ({ apis }: { apis: readonly Api[] }): Probe | undefined => apis.flatMap((api) => api.probes).find((probe) => !probe.effects);

/** A probe without effects reads. */
export const methodOfProbe = (probe: Probe): 'GET' | 'HEAD' => (probe.method === 'HEAD' ? 'HEAD' : 'GET');
