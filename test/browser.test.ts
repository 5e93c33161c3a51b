import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Page } from 'playwright-core';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { parse, stringify } from 'yaml';
import { startBoard } from '../demo/processes.ts';
import { playStory } from '../demo/story.ts';
import type { ApiClient } from '../src/api/client.ts';
import { registerAtStandin } from '../src/standins/visitor.ts';
import { type OpenBrowser, openBrowser } from '../testing/chromium.ts';
import { newFolder, PASSWORD, removeFolder, rk, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { type StandinUnderTest, startEelgrass, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

const home = newFolder();
let [service, standin, browser, call, page]: [ServiceUnderTest, StandinUnderTest, OpenBrowser, ApiClient, Page] = [] as never;

beforeAll(async () => {
  standin = await startEelgrass(6);
  service = await startService({ databaseUrl: await newDatabase() });
  call = await signIn(service);
  browser = await openBrowser();
  page = browser.context.pages()[0] ?? (await browser.context.newPage());
  writeFileSync(join(home, 'eelgrass.yaml'), standin.definitionText);
});
afterAll(async () => {
  await browser?.close();
  await service?.stop();
  await standin?.stop();
  removeFolder(home);
});
const go = (hash: string) => page.evaluate((to) => location.assign(to), hash);
const consentTab = async (button: string) => (await Promise.all([page.waitForEvent('popup'), page.getByRole('button', { name: button }).click()]))[0];

test('the whole story in a browser, with a page that has no errors', async () => {
  const errors: string[] = [];
  page.on('pageerror', (error) => errors.push(error.message));
  page.on('console', (message) => message.type() === 'error' && !message.text().includes('401') && errors.push(message.text()));
  const steps: string[] = [];
  const { calls, failures } = await playStory({
    context: browser.context,
    consoleUrl: service.url,
    definitionFile: join(home, 'eelgrass.yaml'),
    operator: 'marit',
    password: PASSWORD,
    rk: (args, input) => rk(args, { home, input: input ?? '' }),
    startIntegration: (settings) => startBoard({ ...settings, API_URL: `http://127.0.0.1:${standin.port}/v1/tables/sailings/rows?limit=1`, EVERY_MS: '300' }),
    renewals: async (connection) => (await call('showConnection', { params: { connection } })).renewals,
    say: (step) => steps.push(step),
  });
  expect(steps).toHaveLength(11);
  expect(calls).toBeGreaterThan(30);
  expect(failures).toBe(0);
  expect(errors).toEqual([]);
}, 180_000);

test('a redirect URI off by a slash: the waiting page compares what is pasted and marks the character', async () => {
  const draft = await call('addClient', { body: { provider: 'eelgrass', name: 'slash' } });
  const there = await registerAtStandin(standin.origin, 'Off by a slash', `${draft.redirect_uri}/`);
  const params = { provider: 'eelgrass', client: 'slash' };
  await call('changeClient', { params, body: { revision: 1, client_id: there.id } });
  await call('addSecret', { params, body: { secret: there.secret } });
  await call('addConnection', { body: { name: 'slash', provider: 'eelgrass', client: 'slash', scopes: ['tables.read'] } });
  await go('#/connections/slash');
  const provider = await consentTab('Go to consent');
  await provider.getByText('Redirect URI mismatch').waitFor();
  await provider.close();
  await page.getByRole('heading', { name: 'Did Eelgrass stop on a page of its own?' }).waitFor();
  await page.getByLabel('Paste the one that is registered at the provider').fill(`${draft.redirect_uri}/`);
  await page.getByRole('button', { name: 'Compare' }).click();
  await page.getByText('The registered one has a slash too many at its end.').waitFor();
  expect(await page.locator('mark').innerText()).toBe('/');
});

test('withdrawn at the provider: the connection says that a person is needed, and agreeing again from its page fixes it', async () => {
  await standin.order('withdraw', {});
  await go('#/connections/sailings');
  await page.getByText('action needed', { exact: true }).waitFor({ timeout: 60_000 });
  expect(await page.locator('main').innerText()).toContain('The provider rejects the refresh token');
  await go('#/');
  await page.getByRole('link', { name: 'sailings' }).first().click();
  const provider = await consentTab('Reconnect');
  await provider.getByLabel('Password').fill('low-tide');
  await provider.getByRole('button', { name: 'Sign in' }).click();
  await provider.getByRole('button', { name: 'Agree' }).click();
  await provider.getByRole('heading', { name: 'sailings is connected' }).waitFor();
  await provider.close();
  await page.getByRole('heading', { name: 'sailings is connected' }).waitFor();
  await page.getByRole('link', { name: 'Show the connection' }).click();
  await page.getByText('working', { exact: true }).waitFor();
}, 90_000);

test('someone without a login here sees the outcome of their own consent, and nothing else', async () => {
  const { start_url } = await call('openConnection', { params: { connection: 'sailings' } });
  const other = await openBrowser();
  try {
    const tab = await other.context.newPage();
    await tab.goto(start_url);
    await tab.getByText('asks you to let the connection').waitFor();
    await tab.reload(); // looking at it uses nothing up
    await tab.getByRole('button', { name: /^Continue to/ }).click();
    await tab.getByLabel('Password').fill('low-tide');
    await tab.getByRole('button', { name: 'Sign in' }).click();
    await tab.getByRole('button', { name: 'Agree' }).click();
    await tab.getByText('marit.holm@saltmarsh.example consented').waitFor();
    expect(await tab.getByRole('navigation').count()).toBe(0);
    await tab.getByRole('link', { name: 'sign in and go on' }).click();
    await tab.getByRole('heading', { name: 'Sign in' }).waitFor();
  } finally {
    await other.close();
  }
});

test('a client\u2019s page: a notepad is sorted, a mis-paste is named, a new secret waits for its proof, an address is confirmed', async () => {
  const params = { provider: 'eelgrass', client: 'notes' };
  const draft = await call('addClient', { body: { provider: 'eelgrass', name: 'notes' } });
  const there = await registerAtStandin(standin.origin, 'Notes', draft.redirect_uri);
  await go('#/providers/eelgrass/clients/notes');
  await page.getByText('Or paste all your notes').click();
  await page.getByLabel('Your notes').fill(`From the page today\nClient id: ${there.id}\nSecret: ${there.secret}`);
  await page.getByRole('button', { name: 'Sort it' }).click();
  await page.getByText('Lines that fit nothing: 1').waitFor();
  expect(await page.locator('li').filter({ hasText: 'Line 3' }).innerText()).toContain(`${there.secret.length} characters`);
  await page.getByRole('button', { name: 'Save what was found' }).click();
  await page.getByText('0 connections').waitFor();
  await page.getByLabel('A new secret').fill('of-next-year');
  await page.getByLabel('Label').fill('2027');
  await page.getByRole('button', { name: 'Save', exact: true }).click();
  await page.getByRole('row').filter({ hasText: '2027' }).getByText('to be verified', { exact: true }).waitFor();
  expect((await call('showClient', { params })).secrets.map((one) => one.state)).toEqual(['unverified', 'active']);

  const [version] = (await call('listVersions', { params })).items;
  await go('#/providers/eelgrass');
  await page.getByText('Change the definition').click();
  await page.getByLabel('Definition', { exact: true }).fill((version?.document ?? '').replace('//api.eelgrass', '//api.new.eelgrass'));
  await page.getByRole('button', { name: 'Show what that changes' }).click();
  await page.getByText('nothing is sent until an operator confirms').first().waitFor();
  await page.getByRole('button', { name: 'Save as a new version' }).click();
  await page.getByText('in use').waitFor();
  await go('#/providers/eelgrass/clients/notes');
  await page.getByLabel('Your own password').fill(PASSWORD);
  await page.getByRole('button', { name: 'These are the provider\u2019s' }).click();
  await page.getByText('These are the provider\u2019s').waitFor({ state: 'detached' });
  expect((await call('showClient', { params })).unconfirmed_origins).toEqual([]);
  const preview = await call('previewProvider', { params, body: { document: version?.document ?? '' } });
  await call('changeProvider', { params, body: { document: version?.document ?? '', revision: preview.revision } });
}, 60_000);

test('the short form in the console: typed as people type, tidied, drafted, added; and a client that asks for itself', async () => {
  const there = await startUnderTest('wharfpost', 3600);
  await go('#/providers/new');
  await page.getByRole('radio', { name: 'Four fields' }).check();
  await page.getByLabel('Token URL').fill(` ${there.origin}/v1/tokens `);
  await page.getByLabel('One test call').fill(`GET ${there.origin.replace('auth.', 'api.')}/v1/parcels?limit=1`);
  await page.getByLabel('Scopes', { exact: true }).fill('- parcels  # to see them');
  await page.getByText('Where it departs from the standards').click();
  await page.getByLabel('Clients authenticate by').selectOption('client_secret_post');
  await page.getByRole('button', { name: 'Check it' }).click();
  await page.getByText('Ready: nothing is missing.').waitFor();
  await page.getByText('Tidied. Token URL').first().waitFor();
  await page.getByText('The definition, to be changed').click();
  // What no form asks for is written into the definition, as the provider's pages say it.
  const text = page.getByLabel('Definition', { exact: true });
  await text.fill(stringify({ ...parse(await text.inputValue()), dialect: parse(there.definitionText).dialect, title: 'Wharfpost by hand' }));
  await page.getByRole('button', { name: 'Check the changes' }).click();
  await page.getByRole('button', { name: 'Add Wharfpost by hand' }).click();
  await page.getByRole('textbox', { name: 'Name', exact: true }).fill('counter');
  await page.getByRole('button', { name: 'Start the draft' }).click();
  await page.getByText('Nobody signs in through it').waitFor();
  const registered = await registerAtStandin(`${there.origin}/clients`, 'Counter', 'https://unused.example');
  await page.getByLabel('Client id').fill(registered.id);
  await page.getByLabel('Client secret').fill(registered.secret);
  await page.getByRole('button', { name: 'Save', exact: true }).click();
  await page.getByRole('link', { name: 'Open a connection' }).first().click();
  await page.getByRole('textbox', { name: 'Name', exact: true }).fill('parcels');
  await page.getByRole('button', { name: 'Add the connection' }).click();
  await page.getByRole('button', { name: 'Ask Wharfpost by hand' }).click();
  await page.getByRole('heading', { name: 'parcels is connected' }).waitFor();
  expect(await page.locator('main').innerText()).toContain('None: the client acts for itself');
  await there.stop();
}, 60_000);

test('the pages can be worked by keyboard, and every control has a name', async () => {
  for (const hash of [
    '#/',
    '#/connections',
    '#/connections/new',
    '#/connections/sailings',
    '#/providers',
    '#/providers/new',
    '#/providers/eelgrass',
    '#/providers/eelgrass/clients/new',
    '#/providers/eelgrass/clients/timetable',
    '#/callers',
    '#/callers/timetable-board',
    '#/settings',
  ]) {
    await go(hash);
    await page.locator('h1').waitFor();
    await page.waitForTimeout(300);
    const nameless = await page.evaluate(() =>
      [...document.querySelectorAll('a, button, input, select, textarea')]
        .filter((one) => !(one.textContent?.trim() || one.getAttribute('aria-label') || (one as HTMLInputElement).labels?.length))
        .map((one) => one.outerHTML.slice(0, 120)),
    );
    expect(nameless, hash).toEqual([]);
    await page.keyboard.press('Tab');
    expect(await page.evaluate(() => getComputedStyle(document.activeElement ?? document.body).outlineStyle), hash).not.toBe('none');
  }
});
