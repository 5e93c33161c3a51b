import { type RequestHandler, Router } from 'express';
import { findAccess, type ServerParts } from './authorization-server.ts';
import { CALENDARS, TABLES } from './world.ts';

const PAGE_MOST = 50;

/** The stand-in's API: a few tables, checked like a real one (RFC 6750), with cursor paging and rate headers. */
export function apiServer(parts: ServerParts): Router {
  const router = Router();
  const needs =
    (scope: string): RequestHandler =>
    (request, response, next) => {
      const access = findAccess(parts, request);
      parts.count(access ? 'api.ok' : 'api.unauthorized');
      response.setHeader('x-rate-limit', '600');
      if (!access)
        return void response
          .status(401)
          .set('www-authenticate', 'Bearer error="invalid_token"')
          .json({ error: 'invalid_token', message: 'The access token is missing, unknown or has run out.' });
      if (!access.scopes.includes(scope))
        return void response
          .status(403)
          .set('www-authenticate', `Bearer error="insufficient_scope", scope="${scope}"`)
          .json({ error: 'insufficient_scope', message: `This needs the scope ${scope}.` });
      return next();
    };
  const guard = parts.faults.guard('api');
  router.get(
    '/v1/tables',
    guard,
    needs('tables.read'),
    (_request, response) => void response.json({ tables: TABLES.map((table) => ({ id: table.id, title: table.title, rows: table.rows.length })) }),
  );
  router.get('/v1/tables/:table/rows', guard, needs('tables.read'), (request, response) => {
    const table = TABLES.find((one) => one.id === request.params.table);
    if (!table) return void response.status(404).json({ error: 'not_found', message: 'No such table.' });
    const from = Number(request.query.cursor ?? 0) || 0;
    const limit = Math.min(Number(request.query.limit ?? PAGE_MOST) || PAGE_MOST, PAGE_MOST);
    const rows = table.rows.slice(from, from + limit);
    return void response.json({ rows, total: table.rows.length, next_cursor: from + rows.length < table.rows.length ? String(from + rows.length) : null });
  });
  router.get('/v1/calendars', guard, needs('calendars.read'), (_request, response) => void response.json({ calendars: CALENDARS }));
  return router;
}
