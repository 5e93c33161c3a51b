import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { Browser, playAuthorization } from '../src/standins/visitor.ts';
import { type Mailbox, startMailbox } from '../testing/mailbox.ts';
import { newMasterKey, removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addClient, type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** People who are asked: by mail through a real mail server on loopback, and all of them at once when a new scope is needed. */
const LONG = 60_000;
const ACCOUNT = { account: 'eg-1042', password: 'low-tide' };
let [service, call, standin, mailbox] = [] as unknown as [ServiceUnderTest, ApiClient, StandinUnderTest, Mailbox];

beforeAll(async () => {
  mailbox = await startMailbox();
  standin = await startEelgrass(600);
  service = await startService({
    databaseUrl: await newDatabase(),
    masterKey: newMasterKey(),
    environment: { RUSTY_KETTLE_SMTP_URL: mailbox.url, RUSTY_KETTLE_MAIL_FROM: 'Saltmarsh Ferries <connect@saltmarsh.example>' },
  });
  call = await signIn(service);
  await call('addProvider', { body: { document: standin.definitionText } });
  await addClient(call, standin, 'office');
  await call('addConnection', {
    body: { name: 'notes', shared: true, provider: 'eelgrass', client: 'office', scopes: ['tables.read', 'profile', 'offline_access'] },
  });
}, 120_000);
afterAll(async () => {
  await service?.stop();
  await standin?.stop();
  await mailbox?.stop();
  if (service) removeFolder(service.folder);
});

const params = { connection: 'notes' };
const mailTo = (to: string) => mailbox.received.filter((one) => one.to === to);
const linkIn = ({ text }: Mailbox['received'][number]): string => new RegExp(`${service.url}/i/[\\w-]{32}`).exec(text)?.[0] ?? '';
const state = async (person: string) => (await call('listPeople', { params, query: { person } })).items[0];

/** Opens a link and consents. */
async function consent(url: string, untick: string[] = []): Promise<void> {
  const browser = new Browser();
  const page = (await browser.fetch(url)).location ?? '';
  const away = (await browser.fetch(`${page}/start`, new URLSearchParams())).location ?? '';
  await playAuthorization(away, { ...ACCOUNT, untick }, browser);
  await eventually(async () => ((await browser.fetch(`${page}/wait`)).status === 303 ? true : null), LONG);
}

test('an invitation goes out by mail, once, also where the server is busy at first; one that is refused for good is given up', { timeout: LONG }, async () => {
  mailbox.refusals.push({ code: 451 });
  const invite = (person: string, mail: string) =>
    call('invitePerson', { params, body: { person, name: 'Ingrid N.\nBcc: all@evil.example', purpose: 'Show\r\n\r\nyour notes', mail_to: mail } });
  expect(await invite('ingrid', 'ingrid@saltmarsh.example')).toMatchObject({ mailed: true });
  const [letter] = await eventually(async () => (mailTo('ingrid@saltmarsh.example').length > 0 ? mailTo('ingrid@saltmarsh.example') : null), LONG);
  expect(letter?.text).toContain('From: Saltmarsh Ferries <connect@saltmarsh.example>');
  expect(letter?.text).toContain('asks: Show your notes');
  expect(letter?.text).not.toMatch(/^Bcc:/m);
  await consent(linkIn(letter as Mailbox['received'][number]));
  expect(await state('ingrid')).toMatchObject({ state: 'working' });
  mailbox.refusals.push({ code: 550 });
  await invite('nobody', 'nobody@saltmarsh.example');
  await eventually(async () => (mailbox.refusals.length === 0 ? true : null), LONG);
  expect(mailTo('nobody@saltmarsh.example')).toEqual([]);
  expect(mailTo('ingrid@saltmarsh.example')).toHaveLength(1);
});

test('a connection that is lost: the person gets the link to fix it, once', { timeout: LONG }, async () => {
  await standin.order('withdraw', { account: 'eg-1042' });
  const handle = (await state('ingrid'))?.handle ?? '';
  await call('renewConnection', { params: { connection: handle } }).catch(() => undefined);
  const lost = await eventually(async () => mailTo('ingrid@saltmarsh.example')[1] ?? null, LONG);
  expect(lost.text).toContain('no longer works');
  await consent(linkIn(lost));
  await eventually(async () => ((await state('ingrid'))?.state === 'working' ? true : null), LONG);
  expect(mailTo('ingrid@saltmarsh.example')).toHaveLength(2);
});

test('a new scope: who lacks it is asked, who has it is not, reminders are limited, and the progress is shown', { timeout: LONG }, async () => {
  // One more person, who has all of today's scopes; and one who never opened the link.
  await consent((await call('invitePerson', { params, body: { person: 'joss', purpose: 'Notes' } })).url);
  await call('invitePerson', { params, body: { person: 'silent', purpose: 'Notes' } });
  const { revision } = await call('showConnection', { params });
  await call('changeConnection', { params, body: { revision, scopes: ['tables.read', 'calendars.read', 'profile', 'offline_access'] } });
  // Joss has the new scope already: nothing is asked of them.
  await consent((await call('invitePerson', { params, body: { person: 'joss', purpose: 'Notes and calendar' } })).url);
  const begun = await call('addCampaign', { params, body: { name: 'calendars', purpose: 'Show your calendar, too', times_most: 2, remind_hours: 1 } });
  expect(begun).toMatchObject({ people: 4, have: 1, asked: 0, state: 'running' });
  await eventually(async () => ((await call('listCampaigns', { params })).items[0]?.asked === 3 ? true : null), LONG);
  const letter = await eventually(async () => mailTo('ingrid@saltmarsh.example')[2] ?? null, LONG);
  expect(letter.text).toContain('asked for more: Show your calendar, too');
  expect(mailTo('nobody@saltmarsh.example').length).toBeLessThanOrEqual(1);
  await consent(linkIn(letter));
  const caller = await call('addCaller', { body: { name: 'reader' } });
  await call('permitCaller', { params: { caller: 'reader' }, body: { connection: 'notes', people: 'read' } });
  const feed = await eventually(async () => {
    const answer = await fetch(`${service.url}/api/v1/own/events?limit=500`, { headers: { authorization: `Bearer ${caller.caller_id}.${caller.key}` } });
    const { events } = (await answer.json()) as { events: { type: string; subject: string }[] };
    return events.some((one) => one.type === 'person.scopes_changed' && one.subject === 'ingrid') ? events : null;
  }, LONG);
  expect(feed.filter((one) => one.type === 'person.asked').map((one) => one.subject)).toHaveLength(3);
  expect(feed.filter((one) => one.type === 'person.asked' && one.subject === 'joss')).toEqual([]);
  expect((await call('listCampaigns', { params })).items[0]).toMatchObject({ people: 4, have: 2, asked: 3 });
  expect(await call('endCampaign', { params: { ...params, campaign: 'calendars' } })).toMatchObject({ state: 'ended' });
  await expect(call('addCampaign', { params, body: { name: 'calendars', purpose: 'again' } })).rejects.toThrow('This name is taken');
});

test('without a mail server nobody is promised a mail; a shared connection is not removed while someone is connected', { timeout: LONG }, async () => {
  await expect(call('removeConnection', { params })).rejects.toThrow('2 people are connected');
  for (const { person, connected_at: at } of (await call('listPeople', { params, query: {} })).items)
    if (at !== null) await call('disconnectPerson', { params, body: { person } });
  await eventually(async () => ((await call('removeConnection', { params }).catch(() => null)) ? true : null), LONG);
  expect((await call('listConnections', { query: {} })).total).toBe(0);
});
