import { z } from 'zod';
import { BundleCaller, BundleClient, BundleConnection, BundleJob } from '../../src/api/bundles.ts';
import { type Operation, operations } from '../../src/api/operations.ts';
import { definitionSchema } from '../../src/core/provider/json-schema.ts';

const ACCESS = {
  anyone: 'anyone',
  operator: 'operator',
  operator_at_sign_in: 'operator, from the browser that the tool sent',
  caller: 'a caller, with its own id and key',
  consent_or_operator: 'operator, or the browser of this consent',
};

/** docs/API.md, from the table of operations. */
export const apiDocument = (): string => {
  const rows = Object.values(operations as Record<string, Operation>).map((one) => `| \`${one.method} ${one.path}\` | ${one.says} | ${ACCESS[one.access]} |`);
  return `# The JSON API

Made from \`src/api/operations.ts\` by \`npm run docs\`. \`GET /api/v1/openapi.json\` is the same with the schemas of requests and answers, as OpenAPI 3.1. Operators send the session cookie, or \`Authorization: Bearer TOKEN\` with the token that \`rk sign-in\` keeps
(\`POST /api/v1/session\` with \`"keeps": "token"\`). Instants are ISO 8601 in UTC. Failures are problem details (RFC 9457) with \`code\`, \`remedy\` and, for bad input, \`places\`.

| operation | what it does | who may |
|---|---|---|
${rows.join('\n')}

Outside \`/api\`, for callers and their tools: \`POST /oauth/token\`, \`POST /oauth/token/{connection}\` and a caller's own token path (RFC 6749 §4.1.3, §4.4, §6), \`POST /oauth/revoke\` (RFC 7009), \`GET /oauth/authorize\` (RFC 6749 §4.1.1), \`ANY /relay/{connection}/{path}\`; [ISSUING.md](ISSUING.md) says how. For everybody: \`GET /.well-known/oauth-authorization-server\` (RFC 8414), \`GET /oauth/callback/{provider}/{client}\`, \`GET /consent/start/{ticket}\`, \`GET /healthz\`, \`GET /readyz\`.
`;
};

/** The definition format for editors; made from the Zod schema. */
export const schemaDocument = (): string => `${JSON.stringify(definitionSchema(), null, 1)}\n`;

/** The files of a bundle for editors, one schema for each kind. */
export const bundleSchemaDocument = (): string => {
  const of = (schema: z.ZodType) => ({ ...z.toJSONSchema(schema, { io: 'input', unrepresentable: 'any' }), $schema: undefined });
  const kinds = { client: of(BundleClient), connection: of(BundleConnection), caller: of(BundleCaller), job: of(BundleJob) };
  return `${JSON.stringify({ $schema: 'https://json-schema.org/draft/2020-12/schema', title: 'Files of a bundle', $defs: kinds }, null, 1)}\n`;
};
