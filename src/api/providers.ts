import { z } from 'zod';
import { CLIENT_AUTHENTICATION_METHODS } from '../core/oauth/methods.ts';
import { ProviderDefinition } from '../core/provider/definition.ts';
import { ENVIRONMENTS } from '../core/provider/kinds.ts';
import { Instant, ProviderName } from './common.ts';

const Document = z.string().min(1).max(200_000).describe('The text of a definition file, YAML or JSON');
export const AddProvider = z.strictObject({ document: Document });
export const CheckProvider = z.strictObject({
  document: Document,
  ask_endpoints: z.boolean().default(false).describe('Ask its endpoints too, without any secret'),
});
export const ChangeProvider = z.strictObject({ document: Document, revision: z.number().int().min(1) });

export const EndpointVerdict = z.object({ endpoint: z.string(), address: z.string(), good: z.boolean(), says: z.string() });

export const ProviderSummary = z.object({
  name: ProviderName,
  title: z.string(),
  about: z.string(),
  clients: z.number().int(),
  connections: z.number().int(),
  added_at: Instant,
});
export const Provider = ProviderSummary.extend({
  definition: ProviderDefinition,
  digest: z.string(),
  revision: z.number().int(),
  ready: z.array(z.string()).describe('What is missing; empty: ready'),
});
export type ProviderSummary = z.output<typeof ProviderSummary>;
export type Provider = z.output<typeof Provider>;
export const CheckedProvider = z.object({
  definition: ProviderDefinition,
  exists: z.boolean(),
  endpoints: z.array(EndpointVerdict),
});

/** What a changed definition would do, before it is saved. */
export const ProviderPreview = z.object({
  changes: z.array(z.object({ path: z.string(), from: z.string().nullable(), to: z.string().nullable() })),
  effects: z.array(z.object({ client: z.string(), connections: z.number().int(), says: z.array(z.string()) })).describe('For each client that it touches'),
  refused: z.array(z.string()).describe('Why it cannot be saved; empty: it can'),
  revision: z.number().int().describe('To be sent along when it is saved'),
});
export type ProviderPreview = z.output<typeof ProviderPreview>;
export const ProviderVersion = z.object({
  digest: z.string(),
  saved_at: Instant,
  saved_by: z.string(),
  current: z.boolean(),
  document: z.string().describe('As YAML'),
});

const Pairs = z.record(z.string().max(60), z.string().max(500)).default({}).describe('Further parameters');
const Parameters = { authorization_parameters: Pairs, token_parameters: Pairs };
const Named = { name: ProviderName.optional(), title: z.string().trim().min(1).max(80).optional() };
/** Four ways in. What a person types is tidied, and what was changed is said. */
export const DraftProvider = z.discriminatedUnion('from', [
  z.strictObject({
    from: z.literal('issuer'),
    address: z.string().min(1).max(1000).describe('An issuer, or the address of its metadata; a bare host will do'),
    api_call: z.string().max(1000).default('').describe('One test call for a connection: metadata names none'),
    ...Parameters,
    ...Named,
  }),
  z
    .strictObject({
      from: z.literal('openapi'),
      address: z.string().max(1000).default(''),
      document: z.string().max(5_000_000).default('').describe('The document itself'),
      ...Parameters,
      ...Named,
    })
    .refine((given) => (given.address === '') !== (given.document === ''), { error: 'Give the address of the document, or the document itself.' }),
  z.strictObject({
    from: z.literal('short_form'),
    authorization_url: z.string().max(1000).default('').describe('Empty: nobody signs in, the client gets a token of its own'),
    token_url: z.string().min(1).max(1000),
    api_call: z.string().max(1000).default('').describe('One test call for a connection'),
    scopes: z.string().max(20_000).default('').describe('Pasted in any form'),
    method: z.enum(CLIENT_AUTHENTICATION_METHODS).optional().describe('How the client authenticates; left out: client_secret_basic'),
    scope_separator: z.enum([' ', ',', ';', '+']).optional(),
    ...Parameters,
    ...Named,
  }),
  z.strictObject({ from: z.literal('definition'), document: Document }),
]);
export const DraftedProvider = z.object({
  document: z.string().describe('The definition as YAML, to review, change and add'),
  ready: z.boolean(),
  missing: z.array(z.string()),
  values: z.array(z.object({ path: z.string(), value: z.string(), source: z.string() })),
  tidied: z.array(z.string()),
  warnings: z.array(z.string()),
  wrong: z.array(z.object({ path: z.string(), line: z.number().int().optional(), why: z.string() })),
  endpoints: z.array(EndpointVerdict),
  exists: z.boolean(),
});
export type DraftedProvider = z.output<typeof DraftedProvider>;

export const ComposeProvider = z.strictObject({
  environment: z.enum(ENVIRONMENTS).default('live'),
  variant: z.string().max(40).nullable().default(null),
  placeholders: z.record(z.string().max(40), z.string().max(200)).default({}),
  page_address: z.string().max(2000).default('').describe('Any page of the provider: values are read from its address'),
});
export const ComposedProvider = z.object({
  placeholders: z.record(z.string(), z.string()),
  read: z.array(z.string()).describe('Values that were read from the page\u2019s address'),
  addresses: z.array(z.object({ what: z.string(), address: z.string() })),
  wrong: z.array(z.object({ path: z.string(), why: z.string() })),
});
export const ChooseScopes = z.strictObject({ operations: z.array(z.string().max(90)).max(200), client: z.string().max(45).optional() });
export const ChosenScopes = z.object({
  scopes: z.array(z.string()),
  chosen: z.array(z.object({ operation: z.string(), scopes: z.array(z.string()), alternatives: z.array(z.array(z.string())) })),
  weaker_client: z.string().nullable().describe('A weaker client that would do'),
});
