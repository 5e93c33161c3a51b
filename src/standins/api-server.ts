import express, { type RequestHandler, Router } from 'express';
import { refusal } from './answers.ts';
import { accessOfSession, openSession, overQuota } from './api-habits.ts';
import { findAccess } from './authorization-server.ts';
import { habitsOf } from './habits.ts';
import { type ListPage, nextAddress, tooMany } from './lists.ts';
import type { ServerParts } from './server-parts.ts';
import {
  ACCOUNTS,
  ANNOUNCEMENTS,
  BERTHS,
  BOOKINGS,
  CALENDARS,
  CERTIFICATES,
  CHECKS,
  CREW_IDS,
  LEDGER,
  PARCELS,
  PEOPLE,
  pastBookings,
  ROSTERS,
  TABLES,
  THREADS,
} from './world.ts';

const MAX_PAGE = 50;
const BOOKINGS_A_PAGE = 200;
const MAX_HISTORY = 1_000;

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

const whole = (value: unknown, usual: number): number => {
  const read = Number(value ?? usual);
  return Number.isInteger(read) && read >= 0 ? read : usual;
};
/** As many as were asked for, and no more than the API gives. */
const sizeOf = (value: unknown, most: number): number => Math.max(1, Math.min(whole(value, most) || most, most));
/** Keyed by the part of the provider too: each has lists of its own. */
const listName = (parts: ServerParts, name: string): string => (parts.realm === '' ? name : `${name}.${parts.realm}`);
const pageOf = (parts: ServerParts, name: string, world: readonly Record<string, unknown>[], { from, size }: { from: number; size: number }): ListPage =>
  parts.lists.page(listName(parts, name), world, from, size);

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
    const page = pageOf(parts, table.id, table.rows, { from: whole(request.query.cursor, 0), size: sizeOf(request.query.limit, MAX_PAGE) });
    if (tooMany(page, response)) return;
    const next = page.astray === 'loop' ? '0' : page.next === null ? null : String(page.next);
    return void response.json({ rows: page.rows, total: page.total, next_cursor: next });
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
    const number = Math.max(1, whole(request.query.page, 1));
    const size = sizeOf(request.query.size, BOOKINGS_A_PAGE);
    const page = pageOf(parts, 'bookings', mine(BOOKINGS), { from: (number - 1) * size, size });
    if (tooMany(page, response)) return;
    response.json({ page: number, pages: Math.ceil(page.total / size), total: page.total, bookings: page.rows });
  });
  // At most 1,000 of them, whatever follows, and no total: who wants more asks by day.
  router.get('/v1/history', ...needs('bookings.read'), (request, response) => {
    const [first, last] = [String(request.query.first_day ?? '0000'), String(request.query.last_day ?? '9999')];
    const all = pastBookings(parts.realm, parts.now()).filter((one) => String(one.day) >= first && String(one.day) <= last);
    const page = Math.max(1, whole(request.query.page, 1));
    response.json({ page, bookings: all.slice(0, MAX_HISTORY).slice((page - 1) * BOOKINGS_A_PAGE, page * BOOKINGS_A_PAGE) });
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
    const size = sizeOf(request.query.per_page, 50);
    const number = Math.max(1, whole(request.query.page, 1));
    const page = pageOf(parts, 'postings', LEDGER.postings, { from: (number - 1) * size, size });
    if (tooMany(page, response)) return;
    const next = nextAddress(page, (from) => `${parts.definition.apis[0]?.base_url}/postings?page=${Math.floor(from / size) + 1}&per_page=${size}`);
    if (next) response.setHeader('link', `<${next}>; rel="next"`);
    response.json(page.rows);
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
    const page = pageOf(parts, 'parcels', PARCELS, { from: whole(request.query.offset, 0), size: sizeOf(request.query.limit, 100) });
    if (tooMany(page, response)) return;
    response.json({ total: page.total, offset: whole(request.query.offset, 0), parcels: page.rows });
  });
  // A search is a POST, and its pages are named in the body.
  router.post('/parcels/search', ...needs('parcels', 'parcels-book'), express.json(), (request, response) => {
    const { boat, start, count } = (request.body ?? {}) as { boat?: unknown; start?: unknown; count?: unknown };
    const found = PARCELS.filter((one) => boat === undefined || one.boat === boat);
    const page = pageOf(parts, `parcels-of-${String(boat ?? 'all')}`, found, { from: whole(start, 0), size: sizeOf(count, 100) });
    if (tooMany(page, response)) return;
    response.json({ found: page.rows, total: page.total });
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
  router.get('/threads', ...needs('read', 'moderate'), (request, response) => {
    const all = parts.realm.includes('sandbox') ? THREADS.slice(0, 1) : THREADS;
    const page = pageOf(parts, 'threads', all, { from: whole(request.query.start, 0), size: sizeOf(request.query.count, 25) });
    if (tooMany(page, response)) return;
    response.json({ threads: page.rows, start: whole(request.query.start, 0), has_more: page.next !== null });
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
    const page = pageOf(parts, 'people', PEOPLE, { from: whole(request.query.from, 0), size: 20 });
    if (tooMany(page, response)) return;
    response.json({ people: page.rows, links: { next: nextAddress(page, (from) => `${parts.definition.apis[0]?.base_url}/people?from=${from}`) } });
  });
  return below(parts, router);
}

/** Rosters, the next page as a whole address in the body; who consented, by a query that names the members. */
function bosunry(parts: ServerParts): Router {
  const needs = guarded(parts);
  const router = Router();
  router.get('/rosters', ...needs('rosters:read', 'rosters:write'), (request, response) => {
    const page = pageOf(parts, 'rosters', ROSTERS, { from: whole(request.query.from, 0), size: 10 });
    if (tooMany(page, response)) return;
    response.json({ rosters: page.rows, more: nextAddress(page, (from) => `${parts.definition.apis[0]?.base_url}/rosters?from=${from}`) });
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
  // The next page begins after the last id of the one before.
  router.get('/checks', ...guarded(parts)('view.certificates'), (request, response) => {
    const after = whole(request.query.after_id, 0);
    const from = CHECKS.findIndex((one) => one.id > after);
    const page = pageOf(parts, 'checks', CHECKS, { from: from < 0 ? CHECKS.length : from, size: sizeOf(request.query.limit, 10) });
    if (tooMany(page, response)) return;
    response.json({ checks: page.rows });
  });
  return below(parts, router);
}

/** Announcements, at the address that the token answer named. */
function deckhail(parts: ServerParts): Router {
  const needs = guarded(parts);
  const router = Router();
  // The cursor goes in a header, both ways.
  router.get('/announcements', ...needs('hear', 'announce'), (request, response) => {
    const page = pageOf(parts, 'announcements', ANNOUNCEMENTS, { from: whole(request.headers['x-after'], 0), size: 20 });
    if (tooMany(page, response)) return;
    if (page.next !== null) response.setHeader('x-next', String(page.next));
    response.json({ announcements: page.rows });
  });
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
