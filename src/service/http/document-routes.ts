import type { Express } from 'express';
import { openApiDocument } from '../../api/openapi.ts';
import { Fault } from '../../core/fault.ts';
import { definitionSchema } from '../../core/provider/json-schema.ts';
import type { AppParts } from './app-parts.ts';

/** What programs read: the contract, the schema of definitions, calendars, and results of jobs. */
export function documentRoutes(server: Express, parts: Pick<AppParts, 'version' | 'publicUrl' | 'calendar' | 'data'>): void {
  const { publicUrl } = parts;
  let schema: string | null = null; // made when it is first requested
  server.get('/api/v1/provider-definition.schema.json', (_request, response) => {
    schema ??= JSON.stringify(definitionSchema());
    response.type('application/schema+json').send(schema);
  });
  let contract: string | null = null;
  server.get('/api/v1/openapi.json', (_request, response) => {
    contract ??= JSON.stringify(openApiDocument({ version: parts.version, publicUrl }));
    response.type('application/json').send(contract);
  });
  // For calendar programs, which cannot sign in: the address is the secret.
  server.get('/calendar/:token.ics', async (request, response) => {
    const text = await parts.calendar.text(request.params.token);
    if (text === null) throw new Fault('NOT_FOUND', { detail: 'This calendar was revoked, or never was.' });
    response.set('cache-control', 'private, max-age=300').type('text/calendar; charset=utf-8').send(text);
  });
  server.get('/calendar/:token.json', async (request, response) => {
    const listed = await parts.calendar.json(request.params.token);
    if (listed === null) throw new Fault('NOT_FOUND', { detail: 'This calendar was revoked, or never was.' });
    response.set('cache-control', 'private, max-age=300').json(listed);
  });
  server.get('/data/:job/latest.:format', parts.data.latest);
  server.get('/api/v1/runs/:run/result.:format', parts.data.run);
  server.get('/api/v1/backups/:backup/file', parts.data.backup);
}
