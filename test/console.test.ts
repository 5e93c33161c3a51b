import type { Page } from 'playwright-core';
import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { ChannelRule } from '../src/core/notices/channel.ts';
import { type OpenBrowser, openBrowser } from '../testing/chromium.ts';
import { PASSWORD, removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { violations } from './support/axe.ts';
import { addConnection, addEelgrass, agree, type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** The console as a whole: every page by an accessibility checker, at both sizes and in both themes; lists, palette, live changes. */
let [service, standin, call, browser, page] = [] as unknown as [ServiceUnderTest, StandinUnderTest, ApiClient, OpenBrowser, Page];
const SIZES = [
  { width: 1280, height: 800 },
  { width: 390, height: 844 },
];
const PAGES: [hash: string, heading: string][] = [
  ['#/', 'Overview'],
  ['#/connections', 'Connections'],
  ['#/connections/new', 'Open a connection'],
  ...['', '/used-by', '/test-call', '/scopes', '/renewals', '/activity'].map((tab): [string, string] => [`#/connections/sailings${tab}`, 'sailings']),
  ['#/providers', 'Providers'],
  ['#/providers/new', 'Add a provider'],
  ['#/providers/eelgrass', 'Eelgrass'],
  ['#/providers/eelgrass/clients/new', 'Start a client'],
  ...['', '/credentials', '/details', '/activity'].map((tab): [string, string] => [`#/providers/eelgrass/clients/timetable${tab}`, 'timetable']),
  ['#/callers', 'Callers'],
  ...['', '/invitations', '/campaigns', '/details', '/used-by'].map((tab): [string, string] => [`#/connections/notes${tab}`, 'notes']),
  ...['', '/setup', '/keys', '/usage', '/events', '/activity'].map((tab): [string, string] => [`#/callers/board${tab}`, 'board']),
  ['#/jobs', 'Jobs'],
  ...['', '/result', '/settings', '/activity'].map((tab): [string, string] => [`#/jobs/rows${tab}`, 'rows']),
  ['#/jobs/new', 'New job'],
  ['#/upcoming', 'Upcoming'],
  ['#/rehearsals', 'Rehearsals'],
  ['#/activity', 'Activity'],
  ['#/notices', 'Notices'],
  ...['', '/channels', '/log', '/account', '/operators', '/sign-in', '/backups', '/keys', '/bundles'].map((tab): [string, string] => [
    `#/settings${tab}`,
    'Settings',
  ]),
  ['#/privilege', 'Privilege'],
  ['#/help', 'Help'],
];

beforeAll(async () => {
  standin = await startEelgrass(600);
  service = await startService({ databaseUrl: await newDatabase() });
  call = await signIn(service);
  await addEelgrass(call, standin);
  for (const name of ['sailings', 'tides']) {
    await addConnection(call, name, ['tables.read', 'profile', 'offline_access']);
    await agree(call, name);
  }
  await addConnection(call, 'a-draft', ['tables.read']);
  const notes = { connection: 'notes' };
  await call('addConnection', { body: { name: 'notes', shared: true, provider: 'eelgrass', client: 'timetable', scopes: ['tables.read'] } });
  await call('invitePerson', { params: notes, body: { person: 'member-1', name: 'Ingrid N.', purpose: 'Show your notes' } });
  await call('addCampaign', { params: notes, body: { name: 'calendars', purpose: 'Show your calendar, too' } });
  await call('addCaller', { body: { name: 'board', title: 'The board', connections: ['sailings'] } });
  await call('addJob', { body: { name: 'rows', title: 'All rows', connection: 'sailings', call: { method: 'GET', path: '/tables/sailings/rows' } } });
  await call('addChannel', { body: { kind: 'webhook', name: 'board', url: 'http://127.0.0.1:1/', rule: ChannelRule.parse({}) } });
  await call('testChannel', { params: { channel: 'board' } });
  for (let runs = 0; runs < 2; runs += 1) {
    const { id } = await call('runJob', { params: { job: 'rows' } });
    await eventually(async () => (await call('showRun', { params: { run: id } })).state === 'done');
  }
  browser = await openBrowser();
  page = browser.context.pages()[0] ?? (await browser.context.newPage());
  await page.goto(service.url);
  await page.getByLabel('Operator name').fill('marit');
  await page.getByLabel('Password').fill(PASSWORD);
  await page.getByRole('button', { name: 'Sign in' }).click();
  await page.getByRole('heading', { name: 'Overview' }).waitFor();
});
afterAll(async () => {
  await browser?.close();
  await service?.stop();
  await standin?.stop();
  removeFolder(service.folder);
});
const go = async (hash: string, heading: string) => {
  await page.evaluate((to) => location.assign(to), hash);
  await page.getByRole('heading', { level: 1, name: heading }).waitFor();
  await page.locator('[aria-busy=true]').waitFor({ state: 'detached' });
};

// A theme changes colors alone: the second one is looked at in one size.
test.each([
  ['kettle-day', SIZES],
  ['kettle-night', SIZES.slice(1)],
] as const)(
  '%s: no page has a violation, none is wider than its window',
  async (theme, sizes) => {
    await page.evaluate((name) => localStorage.setItem('rusty-kettle-theme', name), theme);
    const found: string[] = [];
    for (const size of sizes) {
      await page.setViewportSize(size);
      await page.reload();
      for (const [hash, heading] of PAGES) {
        await go(hash, heading);
        found.push(...(await violations(page, `${hash} ${size.width}`)));
      }
    }
    expect(found).toEqual([]);
  },
  240_000,
);

test('the checker sees what is wrong: a picture without words, a text too pale', async () => {
  await go('#/settings', 'Settings');
  await page.evaluate(() => {
    document
      .querySelector('main')
      ?.insertAdjacentHTML('beforeend', '<div id="wrong"><img src="/icon.svg"><p style="color:#ccc;background:#fff">pale</p></div>');
  });
  expect((await violations(page, 'wrong')).map((one) => one.split(/[:,]/)[1]?.trim()).sort()).toEqual(['color-contrast', 'image-alt']);
  await page.evaluate(() => document.getElementById('wrong')?.remove());
});

test('on a phone the menu stands behind a button, and a table is a list with the names of its columns', async () => {
  await page.setViewportSize({ width: 390, height: 844 });
  await go('#/connections', 'Connections');
  const link = page.getByRole('navigation', { name: 'Main' }).getByRole('link', { name: 'Callers' });
  expect(await link.isVisible()).toBe(false);
  await page.getByRole('button', { name: 'Menu' }).click();
  await link.click();
  await page.getByRole('heading', { level: 1, name: 'Callers' }).waitFor();
  expect(await link.isVisible()).toBe(false);
  await go('#/connections', 'Connections');
  const label = await page
    .locator('td[data-label=State]')
    .first()
    .evaluate((cell) => getComputedStyle(cell, '::before').content);
  expect(label).toBe('"State"');
  await page.setViewportSize({ width: 1280, height: 800 });
});

test('the list is narrowed by its address, sorted by its heads, and many are paused, labeled and resumed at once; what fails is listed', async () => {
  await go('#/connections?state=working', 'Connections');
  await page.getByText('3 of 3').waitFor();
  await page.getByLabel('Search connections').fill('tid');
  await page.getByText('1 of 1').waitFor();
  expect(new URL(page.url()).hash).toBe('#/connections?search=tid&state=working');
  await go('#/connections', 'Connections');
  await page.getByText('4 of 4').waitFor();
  const rows = () => page.locator('tbody tr td:nth-child(2) a').allInnerTexts();
  await page.getByRole('button', { name: 'Connection', exact: true }).click();
  await page.getByRole('button', { name: 'Connection', exact: true }).click();
  expect(await rows()).toEqual(['tides', 'sailings', 'notes', 'a-draft']);
  await page.getByLabel('Select all shown').check();
  await page.getByRole('button', { name: 'Pause', exact: true }).click();
  await page.getByRole('alert').getByText('a-draft').waitFor(); // nobody has consented to it
  await page.getByLabel('Label to add or remove').fill('deck');
  await page.getByRole('button', { name: 'Add label' }).click();
  await page.locator('tbody tr').filter({ hasText: 'sailings' }).getByText('deck').waitFor();
  expect((await call('listConnections', { query: { state: 'paused', label: 'deck' } })).items.map((one) => one.name)).toEqual(['notes', 'sailings', 'tides']);
  await page.getByRole('button', { name: 'Resume', exact: true }).click();
  await eventually(async () => (await call('listConnections', { query: { state: 'working', provider: 'eelgrass', client: 'timetable' } })).total === 3);
});

test('Ctrl K finds a connection, a page and a tab by keyboard alone; g and a letter go to a page; ? lists the keys', async () => {
  await go('#/', 'Overview');
  for (const [typed, lands] of [
    ['sailings', '#/connections/sailings'],
    ['sailings scopes', '#/connections/sailings/scopes'],
    ['add a provider', '#/providers/new'],
  ] as const) {
    await page.keyboard.press('Control+k');
    await page.getByRole('dialog').getByRole('combobox').or(page.getByRole('dialog').locator('input')).first().pressSequentially(typed);
    const [, tab] = typed.split(' ');
    await page
      .getByRole('dialog')
      .locator('[data-command-item][aria-selected=true], [data-command-item][data-selected]')
      .filter({ hasText: tab ?? typed })
      .waitFor();
    await page.keyboard.press('Enter');
    await eventually(async () => new URL(page.url()).hash === lands || null, 10_000, lands);
    await page.getByRole('dialog').waitFor({ state: 'hidden' }); // else the next keys meet the one that is closing
  }
  await page.keyboard.press('Escape');
  await page.locator('h1').click();
  await page.keyboard.press('g');
  await page.keyboard.press('l');
  await page.getByRole('heading', { level: 1, name: 'Callers' }).waitFor();
  await page.keyboard.press('?');
  await page.getByRole('dialog').getByText('Find any object, page or action').waitFor();
  await page.keyboard.press('Escape');
  await page.getByRole('dialog').waitFor({ state: 'detached' });
});

test('a change made elsewhere is shown without a reload, by one stream; revoking shows what stops, and is taken back by Cancel', async () => {
  const streams: string[] = [];
  page.on('request', (request) => void (request.url().includes('/api/v1/events') && streams.push(request.url())));
  await page.reload();
  await go('#/connections/sailings', 'sailings');
  await page.getByRole('region', { name: 'State' }).getByText('working').waitFor();
  await call('pauseConnection', { params: { connection: 'sailings' } });
  await page.getByRole('region', { name: 'State' }).getByText('paused', { exact: true }).waitFor({ timeout: 60_000 });
  await call('resumeConnection', { params: { connection: 'sailings' } });
  await page.getByRole('region', { name: 'State' }).getByText('working').waitFor({ timeout: 60_000 });
  expect(streams).toHaveLength(1);
  await page.getByRole('button', { name: 'More actions' }).click();
  await page.getByRole('menuitem', { name: 'Revoke…' }).click();
  const asked = page.getByRole('alertdialog');
  await asked.getByText('This stops working').waitFor();
  expect(await asked.innerText()).toContain('board');
  expect(await violations(page, 'the dialog')).toEqual([]);
  await asked.getByRole('button', { name: 'Cancel' }).click();
  await asked.waitFor({ state: 'detached' });
  expect((await call('showConnection', { params: { connection: 'sailings' } })).state).toBe('working');
});

/** Presses Tab until what is focused begins with this name; what the page still loads is waited for first. @throws {Error} where it is not reached */
async function tabTo(name: string): Promise<void> {
  const isNamed = (which: string, wanted: string): boolean =>
    [...document.querySelectorAll<HTMLElement>(which)].some((at) =>
      (at.getAttribute('aria-label') ?? (at instanceof HTMLInputElement ? at.labels?.[0]?.innerText : at.innerText) ?? '').trim().startsWith(wanted),
    );
  const asked = (which: string) => page.evaluate(`(${isNamed})(${JSON.stringify(which)}, ${JSON.stringify(name)})`);
  await eventually(async () => asked('a, button, input'));
  for (let presses = 0; presses < 80; presses += 1) {
    await page.keyboard.press('Tab');
    if (await asked(':focus')) return;
  }
  throw new Error(`${name} is not reached by Tab`);
}

test('by keyboard alone: find a connection, renew it, see who uses it, go to a caller, make a key', async () => {
  await page.setViewportSize({ width: 1280, height: 800 });
  await go('#/', 'Overview');
  const find = async (what: string): Promise<void> => {
    await page.keyboard.press('Control+k');
    await page.getByRole('dialog').getByRole('combobox').or(page.getByRole('dialog').locator('input')).first().pressSequentially(what);
    await page.getByRole('dialog').locator('[data-command-item][aria-selected=true], [data-command-item][data-selected]').filter({ hasText: what }).waitFor();
    await page.keyboard.press('Enter');
    await page.getByRole('heading', { level: 1, name: what }).waitFor();
  };
  await find('sailings');
  await tabTo('Renew now');
  await page.keyboard.press('Enter');
  await page.getByText('Renewed.').waitFor();
  await tabTo('Used by');
  await page.keyboard.press('Enter');
  await page.getByRole('link', { name: 'board' }).waitFor();
  await find('board');
  await tabTo('Keys');
  await page.keyboard.press('Enter');
  await tabTo('Add a key');
  await page.keyboard.press('Enter');
  await tabTo('Label');
  await page.keyboard.type('by keyboard');
  await tabTo('Make the key');
  await page.keyboard.press('Enter');
  await page.getByText('Give these to board').waitFor();
});

test('the stream is for who is signed in, and figures by the hour are there for all, for one connection and for one caller', async () => {
  const refused = await fetch(`${service.url}/api/v1/events`);
  expect([refused.status, (await refused.json()).code]).toEqual([401, 'SIGN_IN_NEEDED']);
  const all = await call('showStatistics', { query: { hours: 3 } });
  expect(all.items).toHaveLength(3);
  expect(all.items.at(-1)?.renewed).toBeGreaterThan(0);
  expect((await call('showStatistics', { query: { connection: 'tides' } })).items).toHaveLength(24);
  expect((await call('showStatistics', { query: { caller: 'board' } })).items.every((hour) => hour.renewed === 0)).toBe(true);
  await expect(call('showStatistics', { query: { connection: 'nope' } })).rejects.toMatchObject({
    problem: { code: 'NOT_FOUND', detail: 'Connection "nope" not found.' },
  });
});

test('from Test call to a job: the paging is shown with its evidence, confirmed, followed, and saved with a schedule', async () => {
  await page.setViewportSize({ width: 1280, height: 800 });
  await go('#/connections/sailings/test-call', 'sailings');
  await page.getByRole('button', { name: 'List rows of a table' }).click();
  await page.getByLabel('table', { exact: true }).fill('sailings');
  await page.getByRole('button', { name: 'Collect all pages' }).click();
  await page.getByText('As the definition states').waitFor();
  expect(await page.getByText('/next_cursor holds a cursor').innerText()).toContain('/total is 84');
  await page.getByRole('button', { name: 'Confirm and collect' }).click();
  await page.getByText('84 of 84: matches the provider’s total.').waitFor();
  await page.getByText('The first 84 of 84 records.').waitFor();
  await page.getByRole('button', { name: 'Save as job' }).click();
  await page.getByLabel('Name', { exact: true }).fill('all-sailings');
  await page.getByRole('radio', { name: 'Cron expression' }).check();
  await page.getByRole('textbox', { name: 'Cron expression' }).fill('0 6 31 2 *');
  await page.getByText('It never fires').first().waitFor();
  await page.getByRole('textbox', { name: 'Cron expression' }).fill('0 6 * * 1-5');
  await page.getByRole('combobox', { name: 'Time zone' }).fill('Europe/Oslo');
  await page.getByText('2 calls a run').waitFor();
  await page.getByText('Next runs (Europe/Oslo)').waitFor();
  await page.getByLabel('Include places').uncheck();
  await page.getByLabel('Heading of boat').fill('Ferry');
  await page.getByRole('button', { name: 'Save job' }).click();
  await page.getByRole('heading', { name: 'all-sailings' }).waitFor();
  await page.getByRole('button', { name: 'Run now' }).click();
  await page.getByRole('cell', { name: 'complete' }).first().waitFor();
  await page.getByRole('link', { name: 'Result' }).click();
  await page.getByRole('columnheader', { name: 'Ferry' }).waitFor();
  const job = await call('showJob', { params: { job: 'all-sailings' } });
  expect(job).toMatchObject({ latest: { records: 84 }, settings: { schedule: { zone: 'Europe/Oslo' }, paging: { style: 'cursor' } } });
  expect(job.settings.layout.columns.map((column) => column.title ?? column.field)).toEqual(['id', 'day', 'departs', 'Ferry', 'from', 'to']);
});
