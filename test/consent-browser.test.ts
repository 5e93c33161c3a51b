import type { Page } from 'playwright-core';
import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { type OpenBrowser, openBrowser } from '../testing/chromium.ts';
import { PASSWORD, removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { addClient, type StandinUnderTest, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** From "open" to the first verified call in a browser: by redirect, by a code for another device, by an address pasted; reloaded on the way, and with the keyboard alone. */
const NAMES = ['eelgrass', 'notchboard', 'deckhail'] as const;
type Name = (typeof NAMES)[number];
const at = {} as Record<Name, StandinUnderTest>;
let [service, browser, call, page]: [ServiceUnderTest, OpenBrowser, ApiClient, Page] = [] as never;
let presses = 0;
const timed: string[] = [];

beforeAll(async () => {
  service = await startService({ databaseUrl: await newDatabase(), environment: { RUSTY_KETTLE_VERIFY_RENEWAL: 'on' } });
  call = await signIn(service);
  for (const name of NAMES) {
    at[name] = await startUnderTest(name, 3600);
    await call('addProvider', { body: { document: at[name].definitionText } });
    await addClient(call, at[name], 'office', { provider: name });
  }
  browser = await openBrowser();
  page = browser.context.pages()[0] ?? (await browser.context.newPage());
  await page.goto(service.url);
  await page.getByLabel('Name').fill('marit');
  await page.getByLabel('Password').fill(PASSWORD);
  await page.getByRole('button', { name: 'Sign in' }).click();
  await page.getByRole('heading', { name: 'Overview' }).waitFor();
}, 120_000);
afterAll(async () => {
  process.stdout.write(`${timed.join('\n')}\n`);
  await browser?.close();
  await service?.stop();
  for (const standin of Object.values(at)) await standin.stop();
  removeFolder(service.folder);
});

/** Presses a button with the keyboard alone: by Tab until it has the focus, then Enter. */
async function press(where: Page, name: string | RegExp): Promise<void> {
  presses += 1;
  const wanted = where.getByRole('button', { name }).first();
  await wanted.waitFor();
  await expectEnabled(where, name);
  for (let n = 0; n < 120; n += 1) {
    if (await wanted.evaluate((one) => one === document.activeElement)) return void (await where.keyboard.press('Enter'));
    await where.keyboard.press('Tab');
  }
  throw new Error(`${name} is not reached by Tab`);
}
const expectEnabled = async (where: Page, name: string | RegExp): Promise<void> => {
  for (let n = 0; n < 50 && !(await where.getByRole('button', { name }).first().isEnabled()); n += 1) await where.waitForTimeout(100);
};
async function newConnection(provider: Name, name: string): Promise<void> {
  await page.evaluate((to) => location.assign(to), `#/connections/new?client=${provider}/office`);
  await page.getByRole('heading', { name: 'Open a connection' }).waitFor();
  await page.getByRole('textbox', { name: 'Name', exact: true }).fill(name);
  await page.locator('input[type=checkbox]:checked').first().waitFor(); // the preset scopes are ticked
  await press(page, 'Add the connection');
}
/** Signs in and agrees on the provider's pages. */
async function agreeThere(there: Page): Promise<void> {
  await there.bringToFront();
  await there.getByLabel('Password').fill('low-tide');
  await press(there, 'Sign in');
  await press(there, 'Agree');
}
const done = (provider: Name, startedAt: number, before: number) =>
  timed.push(`${provider}: ${presses - before} presses, ${((Date.now() - startedAt) / 1000).toFixed(1)} s from "open" to the first verified call`);

test('Eelgrass: by redirect; the waiting page is reloaded, left and found again', async () => {
  const [startedAt, before] = [Date.now(), presses];
  await newConnection('eelgrass', 'sailings');
  const [there] = await Promise.all([page.waitForEvent('popup'), press(page, 'Go to Eelgrass')]);
  await page.getByRole('heading', { name: 'Waiting for Eelgrass' }).waitFor();
  await page.reload();
  await page.getByText('Did Eelgrass stop on a page of its own?').waitFor();
  await page.evaluate(() => location.assign('#/connections/sailings'));
  presses += 1;
  await page.getByRole('link', { name: 'Continue' }).click();
  await page.getByRole('heading', { name: 'Waiting for Eelgrass' }).waitFor();
  await agreeThere(there);
  await there.getByText('Renews automatically. No known expiration.').waitFor();
  await page.bringToFront();
  await page.getByRole('heading', { name: 'sailings is connected' }).waitFor();
  for (const shown of ['one renewal was seen to work', 'Saltmarsh Ferries', '200 it works']) await page.getByText(shown).first().waitFor();
  done('eelgrass', startedAt, before);
  await page.getByText('Requests and answers of this consent, masked').click();
  expect(await page.locator('main').innerText()).toContain('HTTP 200');
});

test('Notchboard: a code for another device, found again after a reload', async () => {
  const [startedAt, before] = [Date.now(), presses];
  await newConnection('notchboard', 'forum');
  await page.getByText('Other ways to tokens').click();
  presses += 1;
  await press(page, 'Enter a code on another device');
  await press(page, 'Continue anyway'); // what it costs is said first
  await page.getByText('Enter this code').waitFor();
  await page.reload();
  const code = await page
    .locator('code')
    .filter({ hasText: /^[A-Z]{4}-[A-Z]{4}$/ })
    .innerText();
  const there = await browser.context.newPage();
  const device = await page.locator('a', { hasText: 'Open it here' }).getAttribute('href');
  await there.goto((device ?? '').split('?')[0] ?? '');
  await there.getByLabel('Code').fill(code.toLowerCase());
  await press(there, 'Go on');
  await agreeThere(there);
  await there.getByText('continues automatically').waitFor();
  await page.bringToFront();
  await page.getByRole('heading', { name: 'forum is connected' }).waitFor();
  done('notchboard', startedAt, before);
});

test('Deckhail: the address is pasted by hand; an capability with effects only after a second press', async () => {
  const [startedAt, before] = [Date.now(), presses];
  await newConnection('deckhail', 'deck');
  const [there] = await Promise.all([page.waitForEvent('popup'), press(page, 'Go to Deckhail')]);
  await page.getByText('At its end the browser shows an address').waitFor();
  // Nobody listens on the engineer's machine: the browser stops at an address that cannot be reached.
  const brought = there.waitForRequest((one) => one.url().includes('/oauth/callback/'));
  await agreeThere(there);
  const address = (await brought).url();
  await page.bringToFront();
  await page.reload();
  await page.getByLabel('The whole address').fill(`  ${address.slice(0, 40)}\n${address.slice(40)}`);
  await press(page, 'Go on with it');
  await page.getByRole('heading', { name: 'deck is connected' }).waitFor();
  await page.getByText('spaces or line breaks').waitFor();
  done('deckhail', startedAt, before);
  const counters = async () => (await at.deckhail.counters()).counters['api.ok'] ?? 0;
  const calls = await counters();
  await page.evaluate(() => location.assign('#/connections/deck/test-call'));
  await press(page, 'Verify…');
  await page.getByText('or someone sees it').waitFor();
  expect(await counters()).toBe(calls);
  await press(page, 'Make the call');
  await page.getByText('the scopes held do not allow it').waitFor(); // hearing was consented to, not speaking
});

test('a page on which the provider stopped is explained on the waiting page, and the remedy compares character by character', async () => {
  const { client_id: id } = await call('showClient', { params: { provider: 'eelgrass', client: 'office' } });
  const there = at.eelgrass.store.state.clients[id ?? ''];
  if (there) there.redirectUris = there.redirectUris.map((one) => `${one}/`);
  await page.evaluate(() => location.assign('#/connections/sailings'));
  const [popup] = await Promise.all([page.waitForEvent('popup'), press(page, 'Reconnect')]);
  const words = await popup.locator('main').innerText();
  await page.bringToFront();
  await page.getByLabel('Paste what that page shows').fill(words);
  await press(page, 'What does it mean?');
  await page.getByRole('group', { name: 'Diagnosis' }).waitFor();
  expect(await page.getByRole('group', { name: 'Diagnosis' }).innerText()).toContain('The redirect URI differs from the one registered');
});
