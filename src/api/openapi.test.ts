import SwaggerParser from '@apidevtools/swagger-parser';
import { expect, test } from 'vitest';
import { fromOpenApi } from '../core/provider/from-openapi.ts';
import { openApiDocument } from './openapi.ts';
import { type Operation, operations } from './operations.ts';

interface Described {
  operationId: string;
  security: object[];
  parameters?: { name: string; in: string; required: boolean }[];
  requestBody?: { required: boolean };
  responses: { 200: { content: { 'application/json': { schema: object } } } };
}
const document = openApiDocument({ version: '1.2.3', publicUrl: 'https://kettle.saltmarsh.example' }) as {
  paths: Record<string, Record<string, Described>>;
  components: { schemas: Record<string, { required?: string[]; additionalProperties?: unknown }>; securitySchemes: Record<string, { name?: string }> };
};

test('the document is valid OpenAPI 3.1, every reference included', async () => {
  const valid = await SwaggerParser.validate(structuredClone(document) as never);
  expect(valid.info).toMatchObject({ title: 'Rusty Kettle', version: '1.2.3' });
});

test.each(Object.entries(operations as Record<string, Operation>))('%s stands in it as it is served', (name, operation) => {
  const described = document.paths[operation.path]?.[operation.method.toLowerCase()];
  expect(described?.operationId).toBe(name);
  const inPath = (described?.parameters ?? []).filter((one) => one.in === 'path').map((one) => one.name);
  expect(inPath).toEqual([...operation.path.matchAll(/\{(\w+)\}/g)].map(([, at]) => at));
  expect(described?.requestBody?.required).toBe(operation.body ? !operation.bodyOptional : undefined);
  expect((described?.security.length ?? 0) > 0).toBe(operation.access !== 'anyone');
});

test('what is sent may leave out what has a default, and nothing unknown; what comes back names all it holds, and may come to hold more', () => {
  const body = document.paths['/api/v1/callers']?.post as unknown as { requestBody: { content: { 'application/json': { schema: object } } } };
  expect(body.requestBody.content['application/json'].schema).toMatchObject({ required: ['name'], additionalProperties: false });
  const { Caller, Problem } = document.components.schemas;
  expect(Caller?.required).toEqual(expect.arrayContaining(['name', 'permissions', 'uses_total']));
  expect(JSON.stringify(document.components.schemas)).not.toContain('"additionalProperties":false');
  expect(Problem?.required).toContain('remedy');
  expect(document.components.securitySchemes.operator_session?.name).toBe('__Host-rk_session');
});

test('our own reader of such documents finds every operation in it', () => {
  const { draft } = fromOpenApi(document, 'openapi.json', { name: 'kettle', title: 'Kettle', typed: {} });
  const [api] = draft.document.apis as { operations: unknown[] }[];
  expect(api?.operations.length).toBe(Object.keys(operations).length);
});
