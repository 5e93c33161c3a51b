import express, { type RequestHandler, Router } from 'express';
import { refusal } from './answers.ts';
import { accessOfSession, openSession, overQuota } from './api-habits.ts';
import { findAccess } from './authorization-server.ts';
import { habitsOf } from './habits.ts';
import type { ServerParts } from './server-parts.ts';
import { ACCOUNTS, ANNOUNCEMENTS, BERTHS, BOOKINGS, CALENDARS, CERTIFICATES, CREW_IDS, LEDGER, PARCELS, PEOPLE, ROSTERS, TABLES, THREADS } from './world.ts';

const PAGE_MOST = 50;
const BOOKINGS_A_PAGE = 200;

/** Checks a request like a real API (RFC 6750 §3): default headers, token, then scope. */
const guarded =
  (parts: ServerParts) =>
  (...anyOf: string[]): RequestHandler[] => [
    parts.faults.guard('api'),
    (request, response, next) => {
      const api = parts.definition.apis[0];
      const no = (status: number, error: string, message: string, { challenge, plainly }: { challenge?: string; plainly?: number } = {}) => {
        const answer = refusal(parts, status, error, message);
        if (challenge) response.set('www-authenticate', challenge);
        response.status(plainly ?? answer.status).json(parts.definition.dialect.error_at ? answer.body : { error, message });
      };
      const missing = Object.entries(api?.headers ?? {}).find(([name, value]) => request.headers[name] !== value);
      if (missing) return no(400, 'invalid_request', `The header ${missing[0]} is wanted.`);
      const key = api?.static_key ? request.headers[api.static_key.header] : undefined;
      const owner = typeof key === 'string' ? parts.store.state.apiKeys[key] : undefined;
      if (owner && owner.realm === parts.realm) {
        parts.count('api.by_static_key');
        response.locals.sub = owner.sub;
        return next();
      }
      const access = api?.session ? accessOfSession(parts, request, api.session) : findAccess(parts, request, api);
      parts.count(access ? 'api.ok' : 'api.unauthorized');
      if (access && overQuota(parts, request, response, access.client.id))
        return no(429, 'quota_used_up', 'Too many calls: the quota of this window is used up.', { plainly: 429 });
      if (!access) return no(401, 'invalid_token', 'The access token is missing, unknown or has expired.', { challenge: 'Bearer error="invalid_token"' });
      const habits = habitsOf(parts.definition);
      if (habits.audience !== null && access.audience !== habits.audience)
        return no(401, 'invalid_token', 'The token was made for another audience.', { challenge: 'Bearer error="invalid_token"' });
      if (!anyOf.some((scope) => access.scopes.includes(scope)))
        return no(403, 'insufficient_scope', `This needs the scope ${anyOf.join(' or ')}.`, {
          challenge: `Bearer error="insufficient_scope", scope="${anyOf[0]}"`,
        });
      if (habits.wantsKeyFor?.test(`${request.method} ${request.path}`) && !access.byKey)
        return no(403, 'certificate_needed', 'Postings want a token that was got with a certificate.');
      if (api && !access.client.apis.includes(api.name)) return no(403, 'api_not_opened', `The API \u201c${api.title}\u201d is not opened to this client.`);
      const role = parts.definition.registration.roles[0];
      if (role !== undefined && access.client.serviceUser?.role !== role) return no(403, 'role_missing', `The service user needs the role ${role}.`);
      const sub = parts.store.state.grants[access.grantId]?.sub;
      if (habits.needsRight?.test(`${request.method} ${request.path}`) && sub === 'eg-2001') return no(403, 'forbidden', 'This account may not see calendars.');
      response.locals.grantId = access.grantId;
      return next();
    },
  ];

/** Tables with cursor paging. */
function eelgrass(parts: ServerParts): Router {
  const needs = guarded(parts);
  const router = Router();
  router.get(
    '/v1/tables',
    ...needs('tables.read'),
    (_request, response) => void response.json({ tables: TABLES.map((table) => ({ id: table.id, title: table.title, rows: table.rows.length })) }),
  );
  router.get('/v1/tables/:table/rows', ...needs('tables.read'), (request, response) => {
    const table = TABLES.find((one) => one.id === request.params.table);
    if (!table) return void response.status(404).json({ error: 'not_found', message: 'No such table.' });
    const from = Number(request.query.cursor ?? 0) || 0;
    const limit = Math.min(Number(request.query.limit ?? PAGE_MOST) || PAGE_MOST, PAGE_MOST);
    const rows = table.rows.slice(from, from + limit);
    return void response.json({ rows, total: table.rows.length, next_cursor: from + rows.length < table.rows.length ? String(from + rows.length) : null });
  });
  router.get('/v1/calendars', ...needs('calendars.read'), (_request, response) => void response.json({ calendars: CALENDARS }));
  return router;
}

/** Berths and bookings of one region, with page numbers, 200 a page. */
function berthline(parts: ServerParts): Router {
  const needs = guarded(parts);
  const router = Router();
  const mine = <T extends { region: string }>(all: readonly T[]) => all.filter((one) => one.region === parts.realm);
  router.get('/v1/berths', ...needs('bookings.read'), (_request, response) => void response.json({ berths: mine(BERTHS) }));
  router.get('/v1/bookings', ...needs('bookings.read'), (request, response) => {
    const all = mine(BOOKINGS);
    const page = Math.max(1, Number(request.query.page ?? 1) || 1);
    response.json({
      page,
      pages: Math.ceil(all.length / BOOKINGS_A_PAGE),
      total: all.length,
      bookings: all.slice((page - 1) * BOOKINGS_A_PAGE, page * BOOKINGS_A_PAGE),
    });
  });
  router.get('/v1/me', ...needs('profile'), (_request, response) => {
    const account = ACCOUNTS.find((one) => one.sub === parts.store.state.grants[String(response.locals.grantId)]?.sub);
    response.json({ id: account?.sub, email: account?.email, region: parts.realm });
  });
  return router;
}

/** Below the path of the definition's API address. */
const below = (parts: ServerParts, router: Router): Router => Router().use(new URL(parts.definition.apis[0]?.base_url ?? '').pathname, router);

/** Accounts and postings of one tenant, in a session that was opened first; the next page in a `Link` header (RFC 8288). */
function ledgerfin(parts: ServerParts): Router {
  const needs = guarded(parts);
  const router = Router();
  router.post('/sessions', (request, response) => openSession(parts, request, response));
  router.get('/accounts', ...needs('books.read', 'books.all'), (_request, response) => void response.json({ accounts: LEDGER.accounts }));
  router.get('/postings', ...needs('books.read', 'books.all'), (request, response) => {
    const size = Math.min(Number(request.query.per_page ?? 50) || 50, 50);
    const page = Math.max(1, Number(request.query.page ?? 1) || 1);
    if (page * size < LEDGER.postings.length)
      response.setHeader('link', `<${parts.definition.apis[0]?.base_url}/postings?page=${page + 1}&per_page=${size}>; rel="next"`);
    response.json(LEDGER.postings.slice((page - 1) * size, page * size));
  });
  router.post(
    '/postings',
    ...needs('books.post', 'books.all'),
    express.json(),
    (request, response) => void response.status(201).json({ id: `p-${LEDGER.postings.length + 1}`, text: request.body?.text ?? '' }),
  );
  return below(parts, router);
}

/** Parcels by offset and limit; errors with status 200. */
function wharfpost(parts: ServerParts): Router {
  const needs = guarded(parts);
  const router = Router();
  router.get('/parcels', ...needs('parcels', 'parcels-book'), (request, response) => {
    const limit = Math.min(Number(request.query.limit ?? 100) || 100, 100);
    const offset = Math.max(0, Number(request.query.offset ?? 0) || 0);
    response.json({ total: PARCELS.length, offset, parcels: PARCELS.slice(offset, offset + limit) });
  });
  // Who pays for a parcel stands in the body.
  router.post('/parcels', ...needs('parcels-book'), express.json(), (request, response) => {
    const { account, to } = (request.body ?? {}) as { account?: unknown; to?: unknown };
    if (typeof account !== 'string' || !/^[0-9]{8}$/.test(account)) {
      const answer = refusal(parts, 422, 'account_missing', 'The body names no account number of eight digits.');
      return void response.status(answer.status).json(answer.body);
    }
    return void response.status(201).json({ id: `pc-${PARCELS.length + 1}`, account, to: typeof to === 'string' ? to : 'the counter' });
  });
  return below(parts, router);
}

/** Threads of the forum; the answer names the member for whom it is. */
function notchboard(parts: ServerParts): Router {
  const needs = guarded(parts);
  const router = Router();
  router.get('/threads', ...needs('read', 'moderate'), (_request, response) => {
    response.json({ threads: parts.realm.includes('sandbox') ? THREADS.slice(0, 1) : THREADS });
  });
  router.post(
    '/threads/:thread/answers',
    ...needs('post'),
    (request, response) => void response.status(201).json({ thread: request.params.thread, answer: 'n-1' }),
  );
  return below(parts, router);
}

/** The staff directory; the next link stands in the body. */
function piermaster(parts: ServerParts): Router {
  const needs = guarded(parts);
  const router = Router();
  router.get('/people', ...needs('staff.read'), (request, response) => {
    const from = Number(request.query.from ?? 0) || 0;
    const next = from + 20 < PEOPLE.length ? `${parts.definition.apis[0]?.base_url}/people?from=${from + 20}` : null;
    response.json({ people: PEOPLE.slice(from, from + 20), links: { next } });
  });
  return below(parts, router);
}

/** Rosters, the next page as a whole address in the body; who consented, by a query that names the members. */
function bosunry(parts: ServerParts): Router {
  const needs = guarded(parts);
  const router = Router();
  router.get('/rosters', ...needs('rosters:read', 'rosters:write'), (request, response) => {
    const from = Number(request.query.from ?? 0) || 0;
    const more = from + 10 < ROSTERS.length ? `${parts.definition.apis[0]?.base_url}/rosters?from=${from + 10}` : null;
    response.json({ rosters: ROSTERS.slice(from, from + 10), more });
  });
  router.get('/whoami', ...needs('whoami'), (request, response) => {
    const account = ACCOUNTS.find((one) => one.sub === parts.store.state.grants[String(response.locals.grantId)]?.sub);
    const all: Record<string, unknown> = { id: account?.sub, mail: account?.email, name: account?.name };
    const wanted = String(request.query.fields ?? '').split(',');
    response.json(Object.fromEntries(Object.entries(all).filter(([name]) => wanted.includes(name))));
  });
  return below(parts, router);
}

/** The certificates of whoever linked their id. */
function oakum(parts: ServerParts): Router {
  const router = Router();
  router.get('/certificates', ...guarded(parts)('view.certificates'), (_request, response) => {
    const sub = parts.store.state.grants[String(response.locals.grantId)]?.sub ?? '';
    response.json({ crew_id: CREW_IDS[sub], certificates: CERTIFICATES });
  });
  return below(parts, router);
}

/** Announcements, at the address that the token answer named. */
function deckhail(parts: ServerParts): Router {
  const needs = guarded(parts);
  const router = Router();
  router.get('/announcements', ...needs('hear', 'announce'), (_request, response) => void response.json({ announcements: ANNOUNCEMENTS }));
  router.post('/announcements', ...needs('announce'), (_request, response) => void response.status(201).json({ id: `a-${ANNOUNCEMENTS.length + 1}` }));
  return below(parts, router);
}

const APIS: Record<string, (parts: ServerParts) => Router> = {
  eelgrass,
  berthline,
  ledgerfin,
  wharfpost,
  notchboard,
  piermaster,
  bosunry,
  oakum,
  deckhail,
};

/** Another definition's stand-in answers each of its probes and GET operations with what it was asked. */
function plain(parts: ServerParts): Router {
  const router = Router();
  for (const api of parts.definition.apis) {
    const paths = [
      ...api.probes.map((probe) => ({ ...probe, needs: probe.needs })),
      ...api.operations.filter((one) => one.method === 'GET').map((one) => ({ path: one.path, needs: one.needs.flat() })),
    ];
    const base = new URL(api.base_url).pathname.replace(/\/$/, '');
    for (const { path, needs } of paths) {
      const pattern = `${base}${(path.split('?')[0] ?? '').replace(/\{(\w+)\}/g, ':$1')}`;
      const scopes = needs.length > 0 ? needs : parts.definition.scopes.map((scope) => scope.name);
      router.get(
        pattern,
        ...guarded(parts)(...scopes),
        (request, response) => void response.json({ path: request.path, provider: parts.definition.title, records: [{ id: 1, name: 'first' }] }),
      );
    }
  }
  return router;
}

/** The API of a provider: with data where it belongs to the made-up world, else plain answers. */
export const apiServer = (parts: ServerParts): Router => (APIS[parts.definition.name] ?? plain)(parts);
