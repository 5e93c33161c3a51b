import type { ApiClient } from '../src/api/client.ts';
import { playConsent, registerAtStandin } from '../src/standins/visitor.ts';
import { agree, finished, type Harbour } from './stage.ts';

const post = (url: string, body: object): Promise<Response> =>
  fetch(url, { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify(body) });

/**
 * Consents that are not plain: a static key with OAuth prepared beside it, an account that nobody expected, a connection in the sandbox
 * that can move to live, and one for which the whole organization needs admin consent. Wants Eelgrass, Berthline and the others to be there.
 */
export async function seedConsents(harbour: Harbour, call: ApiClient): Promise<void> {
  const berthline = new URL(harbour.berthlineUrl).port;
  const { key } = (await (await post(`http://127.0.0.1:${berthline}/standin/keys`, { account: 'eg-1077' })).json()) as { key: string };
  await call('addConnection', { body: { name: 'harbour-report', provider: 'berthline', client: 'harbour', scopes: ['bookings.read', 'profile'] } });
  await call('setKey', { params: { connection: 'harbour-report' }, body: { key } });
  await agree(call, 'harbour-report', 'eg-1077', { prepare: true });
  await call('addCaller', { body: { name: 'berth-report', title: 'Berths, every Monday', connections: ['harbour-report'] } });

  await call('addConnection', {
    body: {
      name: 'crew-calendar',
      provider: 'eelgrass',
      client: 'timetable',
      scopes: ['tables.read', 'calendars.read', 'profile', 'offline_access'],
    },
  });
  await agree(call, 'crew-calendar', 'eg-1042');
  const again = await call('openConnection', { params: { connection: 'crew-calendar' } });
  await playConsent(again.start_url, { account: 'eg-1077' });
  await finished(call, again.id).catch(() => undefined); // another account: it is said to have failed, and waits for a decision

  await call('addConnection', {
    body: { name: 'forum-trial', provider: 'notchboard', client: 'forum-sandbox', scopes: ['read', 'keep'], operations: ['list-threads'] },
  });
  await agree(call, 'forum-trial', 'eg-2001');

  const body = { provider: 'piermaster', name: 'phones', title: 'Phone list', type: 'service_account' as const, placeholders: { audience: 'pm:dir:staff' } };
  const draft = await call('addClient', { body });
  const there = await registerAtStandin(draft.registration_page ?? '', 'Phone list', draft.redirect_uri);
  const params = { provider: 'piermaster', client: 'phones' };
  const scopes = ['staff.read', 'staff.phone'];
  await call('changeClient', { params, body: { revision: draft.revision, client_id: there.id, registered_scopes: scopes } });
  await call('addSecret', { params, body: { secret: there.secret, ends_at: new Date(Date.now() + 120 * 86_400_000).toISOString() } });
  await call('addConnection', { body: { name: 'phone-list', provider: 'piermaster', client: 'phones', scopes } });
}
