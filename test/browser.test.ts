import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Page } from 'playwright-core';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { type OpenBrowser, openBrowser } from '../demo/chromium.ts';
import { registerAtStandin } from '../demo/consent.ts';
import { startBoard } from '../demo/processes.ts';
import { playStory } from '../demo/story.ts';
import type { ApiClient } from '../src/api/client.ts';
import { type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';
import { newFolder, PASSWORD, removeFolder, rk, type ServiceUnderTest, signIn, startService } from './support/service.ts';

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
  await page.getByLabel('Paste the one that is registered there').fill(`${draft.redirect_uri}/`);
  await page.getByRole('button', { name: 'Compare' }).click();
  await page.getByText('The registered one has a slash too many at its end.').waitFor();
  expect(await page.locator('mark').innerText()).toBe('/');
});

test('withdrawn at the provider: the connection says that a person is needed, and agreeing again from its page mends it', async () => {
  await standin.order('withdraw', {});
  await go('#/connections/sailings');
  await page.getByText('needs a person', { exact: true }).waitFor({ timeout: 30_000 });
  expect(await page.locator('main').innerText()).toContain('The provider refuses the refresh token');
  await go('#/');
  await page.getByRole('link', { name: 'sailings' }).first().click();
  const provider = await consentTab('Agree again');
  await provider.getByLabel('Password').fill('low-tide');
  await provider.getByRole('button', { name: 'Sign in' }).click();
  await provider.getByRole('button', { name: 'Agree' }).click();
  await provider.getByRole('heading', { name: 'sailings is connected' }).waitFor();
  await provider.close();
  await page.getByRole('heading', { name: 'sailings is connected' }).waitFor();
  await page.getByRole('link', { name: 'Watch it being kept alive' }).click();
  await page.getByText('working', { exact: true }).waitFor();
}, 90_000);

test('somebody without a login here sees the outcome of their own consent, and nothing else', async () => {
  const { start_url } = await call('openConnection', { params: { connection: 'sailings' } });
  const other = await openBrowser();
  try {
    const tab = await other.context.newPage();
    await tab.goto(start_url);
    await tab.getByLabel('Password').fill('low-tide');
    await tab.getByRole('button', { name: 'Sign in' }).click();
    await tab.getByRole('button', { name: 'Agree' }).click();
    await tab.getByText('marit.holm@saltmarsh.example agreed').waitFor();
    expect(await tab.getByRole('navigation').count()).toBe(0);
    await tab.getByRole('link', { name: 'sign in and go on' }).click();
    await tab.getByRole('heading', { name: 'Sign in' }).waitFor();
  } finally {
    await other.close();
  }
});

test('the pages can be worked by keyboard, and every control has a name', async () => {
  for (const hash of [
    '#/',
    '#/connections',
    '#/connections/new',
    '#/connections/sailings',
    '#/providers',
    '#/providers/new',
    '#/providers/eelgrass/clients/timetable',
    '#/callers',
    '#/callers/timetable-board',
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
