import type { ApiClient } from '../src/api/client.ts';
import { registerAtStandin } from '../src/standins/visitor.ts';
import { makeCertificate } from '../testing/certificate.ts';
import { agree, finished, type Harbour } from './stage.ts';

const ANSWERS = {
  organization: 'Saltmarsh Ferries',
  purpose: 'Timetables, rosters and crew certificates on our own boards. Nothing is passed on.',
  contact: 'apis@saltmarsh.example',
  platform: 'Rusty Kettle on our own server',
  home_page: 'https://saltmarsh.example',
  privacy_page: 'https://saltmarsh.example/privacy',
  terms_page: 'https://saltmarsh.example/terms',
};

/**
 * The other providers of Saltmarsh Ferries: books with a certificate, parcels, the staff directory by a printed code, the passengers'
 * forum with a client for its sandbox beside the live one, rosters for listed accounts, announcements, and a registry that has not
 * approved its client yet.
 */
export async function seedOthers(harbour: Harbour, call: ApiClient): Promise<void> {
  await call('changeAnswers', { body: ANSWERS });
  for (const url of Object.values(harbour.others)) await call('addProvider', { body: { document: await (await fetch(`${url}/definition.yaml`)).text() } });
  const certificate = await makeCertificate('saltmarsh-ledger');
  const client = async (
    provider: string,
    name: string,
    title: string,
    more: More & { byKey?: boolean; scopes: string[]; endsInDays?: number; listed?: string; approval?: 'requested' },
  ) => {
    const { byKey, scopes, endsInDays, listed, approval, ...rest } = more;
    const draft = await call('addClient', { body: { provider, name, title, ...rest } });
    const there = await registerAtStandin(draft.registration_page ?? '', title, draft.redirect_uri, {
      certificate: byKey ? certificate.certificate : '',
      ...(listed ? { listed } : {}),
      ...(approval ? { approval } : {}),
    });
    const params = { provider, client: name };
    await call('changeClient', {
      params,
      body: {
        revision: draft.revision,
        client_id: there.id,
        registered_scopes: scopes,
        registering: { registered_by: 'Marit Holm', redirect_uris_there: [draft.redirect_uri], done: draft.guide.map((step) => step.title) },
        ...(byKey ? { method: 'private_key_jwt' as const } : {}),
        ...(listed ? { reach: 'listed' as const, listed_accounts: [listed] } : {}),
      },
    });
    const ends_at = endsInDays ? new Date(Date.now() + endsInDays * 86_400_000).toISOString() : null;
    await call('addSecret', { params, body: byKey ? { kind: 'certificate', secret: certificate.pem } : { secret: there.secret, ends_at } });
    return { ...there, params };
  };
  const connection = async (
    name: string,
    provider: string,
    through: string,
    scopes: string[],
    more: { placeholders?: Record<string, string>; operations?: string[]; expected_account?: string } = {},
    account = 'eg-2001',
  ) => {
    await call('addConnection', { body: { name, provider, client: through, scopes, ...more } });
    await agree(call, name, account);
  };
  await client('ledgerfin', 'nightly', 'Nightly ledger', { placeholders: { tenant: 'lf204816' }, byKey: true, scopes: ['books.read', 'books.post'] });
  await connection('ledger', 'ledgerfin', 'nightly', ['books.read', 'books.post'], { operations: ['list-postings', 'post-entry'] });
  await client('ledgerfin', 'reading', 'Ledger, read only', { placeholders: { tenant: 'lf204816' }, scopes: ['books.read', 'books.post'] });
  await connection('ledger-by-secret', 'ledgerfin', 'reading', ['books.read', 'books.post']);
  await client('wharfpost', 'counter', 'Parcel counter', { scopes: ['parcels'] });
  await connection('parcels', 'wharfpost', 'counter', ['parcels'], { placeholders: { account: '40017788' }, operations: ['list-parcels'] });
  const directory = await client('piermaster', 'directory', 'Staff directory', {
    placeholders: { audience: 'pm:dir:staff' },
    scopes: ['staff.read'],
    endsInDays: 60,
  });
  await call('addConnection', { body: { name: 'staff', provider: 'piermaster', client: 'directory', scopes: ['staff.read'], operations: ['list-people'] } });
  await byPrintedCode(call, 'staff', harbour.others.piermaster ?? '', directory.id);
  await client('notchboard', 'forum', 'Passengers\u2019 forum', { scopes: ['read', 'post', 'keep'] });
  await client('notchboard', 'forum-sandbox', 'Passengers\u2019 forum, for trying', { environment: 'sandbox', scopes: ['read', 'post', 'moderate', 'keep'] });
  await connection('forum', 'notchboard', 'forum', ['read', 'post', 'keep'], { operations: ['list-threads', 'answer-thread'] });
  await client('bosunry', 'rosters', 'Roster board', { scopes: ROSTERS, listed: 'joss.tarrant@saltmarsh.example' });
  await change(call, 'bosunry', 'rosters', { registering: { domains_there: ['127.0.0.1'] } });
  await connection('rosters', 'bosunry', 'rosters', ROSTERS, { operations: ['list-rosters'], expected_account: 'joss.tarrant@saltmarsh.example' }, 'eg-1077');
  await client('deckhail', 'deck', 'Deck announcer', { scopes: ['hear', 'announce', 'offline_access'] });
  await connection('announcements', 'deckhail', 'deck', ['hear', 'announce', 'offline_access'], { operations: ['announce'] });
  // Oakum has not approved its client yet: what was sent is kept, and a rehearsal stands beside it.
  const crew = await client('oakum', 'crew', 'Crew portal', { scopes: ['view.certificates'], approval: 'requested' });
  const { form } = await call('showClient', { params: crew.params });
  await call('recordRequest', {
    params: crew.params,
    body: { form: 'Application for access', answers: form.map(({ question, answer }) => ({ question, answer: answer || '48' })) },
  });
  const rehearsal = { rehearsal_port: Number(new URL(harbour.others.oakum ?? '').port), scopes: ['view.certificates'] };
  await client('oakum', 'rehearsal', 'Crew portal, rehearsed', rehearsal);
  await change(call, 'oakum', 'rehearsal', { approval: 'approved' });
  await connection('crew-certificates', 'oakum', 'rehearsal', ['view.certificates'], {}, 'eg-1042');
}

const ROSTERS = ['rosters:read', 'whoami', 'offline_access'];

interface More {
  placeholders?: Record<string, string>;
  environment?: 'sandbox';
  rehearsal_port?: number;
}

async function change(call: ApiClient, provider: string, client: string, body: object): Promise<void> {
  const params = { provider, client };
  await call('changeClient', { params, body: { revision: (await call('showClient', { params })).revision, ...body } });
}

/** A consent by a code that the provider's console prints: printed, pasted, exchanged. */
async function byPrintedCode(call: ApiClient, connection: string, standinUrl: string, clientId: string): Promise<void> {
  const printed = await fetch(`${standinUrl}/standin/printed-codes`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ client_id: clientId, account: 'eg-1042' }),
  });
  const { code } = (await printed.json()) as { code: string };
  const opened = await call('openConnection', { params: { connection } });
  await call('giveCode', { params: { consent: opened.id }, body: { code } });
  await finished(call, opened.id);
}

/** Decides as the provider's staff would: whatever waits is approved. The names of the clients. */
export async function approveAtOakum(port: number): Promise<string[]> {
  const order = async (path: string, body?: object): Promise<unknown> =>
    (
      await fetch(
        `http://127.0.0.1:${port}/standin/${path}`,
        body ? { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify(body) } : {},
      )
    ).json();
  const { waiting } = (await order('approvals')) as { waiting: { client_id: string; name: string }[] };
  for (const one of waiting) await order('approval', { client_id: one.client_id, state: 'approved' });
  return waiting.map((one) => one.name);
}
