import { z } from 'zod';
import * as callers from './callers.ts';
import * as clients from './clients.ts';
import * as common from './common.ts';
import * as connections from './connections.ts';
import * as diagnosis from './diagnosis.ts';
import * as shared from './operation.ts';
import { operations } from './operations.ts';
import * as operators from './operators.ts';
import * as own from './own.ts';
import { Problem } from './problem.ts';
import * as providers from './providers.ts';
import { sessionCookieName } from './session-cookie.ts';
import * as status from './status.ts';
import * as trying from './trying.ts';

/** Schemas that have a name of their own in the document: the objects that these modules export. */
const MODULES = [shared, common, diagnosis, operators, providers, clients, connections, callers, own, status, trying, { Problem }];
const SCHEMAS = '#/components/schemas/';

const SECURITY: Record<shared.Access, Record<string, string[]>[]> = {
  anyone: [],
  operator: [{ operator_token: [] }, { operator_session: [] }],
  operator_at_sign_in: [{ operator_session: [] }],
  consent_or_operator: [{ operator_token: [] }, { operator_session: [] }, { consent_cookie: [] }],
  caller: [{ caller_basic: [] }, { caller_bearer: [] }],
};
const SECURITY_SCHEMES = {
  operator_token: {
    type: 'http',
    scheme: 'bearer',
    description: 'The token that `POST /api/v1/session` gives with `"keeps": "token"`, as `rk sign-in` asks for it.',
  },
  operator_session: {
    type: 'apiKey',
    in: 'cookie',
    name: 'rk_session_7420',
    description: 'The console\u2019s session; the name ends in the port of the public URL.',
  },
  consent_cookie: {
    type: 'apiKey',
    in: 'cookie',
    name: 'rk_consent',
    description: 'Of the browser in which this consent was started; the name ends in the consent\u2019s id.',
  },
  caller_basic: { type: 'http', scheme: 'basic', description: 'A caller\u2019s id and key.' },
  caller_bearer: { type: 'http', scheme: 'bearer', description: 'A caller\u2019s id and key as `ID.KEY`.' },
};

type Json = Record<string, unknown>;

/** Answers may gain members: whoever reads them ignores what it does not know. */
const open = ({ jsonSchema }: { jsonSchema: Json }): void => {
  if (jsonSchema.additionalProperties === false) delete jsonSchema.additionalProperties;
};
const bare = ({ $schema: _schema, $id: _id, ...rest }: Json): Json => rest;

/** What is sent, written out where it stands: with defaults and optional members it differs from what comes back under the same name. */
const sent = (schema: z.ZodType): Json => bare(z.toJSONSchema(schema, { io: 'input', unrepresentable: 'any' }) as Json);

/** What comes back: every schema with a name once, and what refers to it. */
function answers(): { schemas: Record<string, Json>; of(operation: shared.Operation, name: string): Json } {
  const registry = z.registry<{ id: string }>();
  for (const module of MODULES)
    for (const [id, schema] of Object.entries(module as Record<string, unknown>).sort(([a], [b]) => (a < b ? -1 : 1)))
      if (schema instanceof z.ZodObject && !registry.has(schema)) registry.add(schema, { id });
  for (const [name, { answer }] of Object.entries(operations as Record<string, shared.Operation>))
    if (!registry.has(answer)) registry.add(answer, { id: `${name.charAt(0).toUpperCase()}${name.slice(1)}Answer` });
  const { schemas } = z.toJSONSchema(registry, { io: 'output', unrepresentable: 'any', uri: (id) => `${SCHEMAS}${id}`, override: open as never }) as {
    schemas: Record<string, Json>;
  };
  const used = new Set<string>();
  const use = (id: string): void => {
    if (used.has(id)) return;
    used.add(id);
    for (const [, inner] of JSON.stringify(schemas[id]).matchAll(/"\$ref":"#\/components\/schemas\/(\w+)"/g)) use(inner as string);
  };
  use('Problem');
  const of = ({ answer }: shared.Operation): Json => {
    const id = registry.get(answer)?.id ?? '';
    use(id);
    return { $ref: `${SCHEMAS}${id}` };
  };
  return {
    of,
    get schemas() {
      return Object.fromEntries([...used].sort().map((id) => [id, bare(schemas[id] ?? {})]));
    },
  };
}

const queryParameters = (query: z.ZodType): Json[] => {
  const { properties = {}, required = [] } = sent(query) as { properties?: Record<string, Json>; required?: string[] };
  return Object.entries(properties).map(([name, { description, ...schema }]) => ({
    name,
    in: 'query',
    ...(description ? { description } : {}),
    required: required.includes(name),
    schema,
  }));
};

/** The contract as OpenAPI 3.1, made from the same Zod schemas by which the service reads and answers. */
export function openApiDocument({ version, publicUrl }: { version: string; publicUrl: string }): Json {
  const known = answers();
  const paths: Record<string, Json> = {};
  for (const [name, operation] of Object.entries(operations as Record<string, shared.Operation>)) {
    const inPath = [...operation.path.matchAll(/\{(\w+)\}/g)].map(([, at]) => ({ name: at, in: 'path', required: true, schema: { type: 'string' } }));
    const parameters = [...inPath, ...(operation.query ? queryParameters(operation.query) : [])];
    paths[operation.path] = {
      ...paths[operation.path],
      [operation.method.toLowerCase()]: {
        operationId: name,
        summary: operation.says,
        tags: [operation.path.split('/')[3] ?? ''],
        security: SECURITY[operation.access],
        ...(parameters.length > 0 ? { parameters } : {}),
        ...(operation.body ? { requestBody: { required: !operation.bodyOptional, content: { 'application/json': { schema: sent(operation.body) } } } } : {}),
        responses: {
          200: { description: 'Done.', content: { 'application/json': { schema: known.of(operation, name) } } },
          default: { $ref: '#/components/responses/Problem' },
        },
      },
    };
  }
  return {
    openapi: '3.1.0',
    info: {
      title: 'Rusty Kettle',
      version,
      description:
        'Sets up OAuth connections, keeps their tokens renewed, and issues them. Instants are ISO 8601 in UTC. What callers and their tools use \u2013 the token endpoint, sign-in for tools, the relay \u2013 follows RFC 6749 and its kin and is informed by `/.well-known/oauth-authorization-server`.',
    },
    servers: [{ url: publicUrl }],
    paths,
    components: {
      schemas: known.schemas,
      responses: {
        Problem: {
          description: 'Problem details (RFC 9457): what, why, and what to do.',
          content: { 'application/problem+json': { schema: { $ref: `${SCHEMAS}Problem` } } },
        },
      },
      securitySchemes: { ...SECURITY_SCHEMES, operator_session: { ...SECURITY_SCHEMES.operator_session, name: sessionCookieName(publicUrl) } },
    },
  };
}
