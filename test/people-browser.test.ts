import { type Browser, type BrowserContext, chromium, type Page } from 'playwright-core';
import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { newMasterKey, removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { violations } from './support/axe.ts';
import { addClient, type StandinUnderTest, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** The pages of people in a real browser of a phone's size, without a script, in both themes, by keyboard, checked for accessibility. */
const LONG = 120_000;
const PHONE = { width: 390, height: 844 };
const standins = {} as Record<'oakum' | 'eelgrass' | 'notchboard', StandinUnderTest>;
let [service, call, browser] = [] as unknown as [ServiceUnderTest, ApiClient, Browser];
const opened: BrowserContext[] = [];

beforeAll(async () => {
  for (const name of ['oakum', 'eelgrass', 'notchboard'] as const) standins[name] = await startUnderTest(name, 600);
  service = await startService({ databaseUrl: await newDatabase(), masterKey: newMasterKey() });
  call = await signIn(service);
  for (const [name, standin] of Object.entries(standins)) {
    await call('addProvider', { body: { document: standin.definitionText } });
    await addClient(call, standin, 'office', { provider: name });
  }
  for (const [name, scopes] of Object.entries({
    oakum: ['view.certificates'],
    eelgrass: ['tables.read', 'calendars.read', 'profile', 'offline_access'],
    notchboard: ['read', 'keep'],
  }))
    await call('addConnection', { body: { name, shared: true, provider: name, client: 'office', scopes } });
  browser = await chromium.launch({ executablePath: '/usr/bin/chromium', args: ['--no-sandbox', '--disable-gpu', '--disable-quic'] });
}, LONG);
afterAll(async () => {
  await browser?.close();
  await service?.stop();
  for (const one of Object.values(standins)) await one.stop();
  if (service) removeFolder(service.folder);
});

const invite = async (connection: string, person: string, more: object = {}): Promise<string> =>
  (await call('invitePerson', { params: { connection }, body: { person, name: 'Ingrid N.', purpose: 'Show it on your page', ...more } })).url;
/** A phone. Scripts run in it only where the checker needs them: the pages have none. */
async function phone(options: { dark?: boolean; checked?: boolean } = {}): Promise<Page> {
  const context = await browser.newContext({
    viewport: PHONE,
    colorScheme: options.dark ? 'dark' : 'light',
    javaScriptEnabled: options.checked === true,
    bypassCSP: options.checked === true,
  });
  context.setDefaultTimeout(30_000);
  opened.push(context);
  return context.newPage();
}
async function signInThere(page: Page, account: string): Promise<void> {
  await page.locator(`[name=account][value="${account}"]`).check();
  await page.locator('[name=password]').fill('low-tide');
  await page.locator('form button').first().click();
}
/** At the stand-in: signs in, leaves out what is named, decides. */
async function decide(page: Page, { account = 'eg-1042', untick = [] as string[], refuse = false } = {}): Promise<void> {
  await signInThere(page, account);
  for (const scope of untick) await page.locator(`[name=scope][value="${scope}"]`).uncheck();
  await page.locator(`button[value=${refuse ? 'refuse' : 'agree'}]`).click();
  await page.waitForURL(new RegExp(`^${service.url}/i/p/[0-9a-f-]+$`));
}
const says = (page: Page, text: string): Promise<void> => page.getByText(text).first().waitFor();

test('the registry, by keyboard alone: look, consent, see what is connected, disconnect, reconnect', { timeout: LONG }, async () => {
  const page = await phone();
  await page.goto(await invite('oakum', 'keyboard'));
  await says(page, 'Connect your Oakum account');
  await page.keyboard.press('Tab');
  await page.keyboard.press('Enter');
  await decide(page);
  await says(page, 'Connected.');
  await page.getByRole('button', { name: 'Show my private link' }).click();
  const link = (await page.locator('.code a').textContent()) ?? '';
  const other = await phone();
  await other.goto(link);
  await other.getByRole('link', { name: 'Disconnect' }).press('Enter');
  await other.getByRole('button', { name: 'Disconnect' }).press('Enter');
  await says(other, 'Connect your Oakum account');
  await other.getByRole('button', { name: 'Continue to Oakum' }).press('Enter');
  await decide(other);
  await says(other, 'Connected.');
});

test('tables: denied, then with a permission left out, then with the wrong account', { timeout: LONG }, async () => {
  const page = await phone();
  await page.goto(await invite('eelgrass', 'chooser', { uses: 3 }));
  await page.getByRole('button', { name: 'Continue to Eelgrass' }).click();
  await decide(page, { refuse: true });
  await says(page, 'You did not allow access');
  await page.getByRole('button', { name: 'Try again' }).click();
  await decide(page, { untick: ['calendars.read'] });
  await says(page, 'What you did not allow');
  await page.getByRole('button', { name: 'Allow more' }).click();
  await decide(page, { account: 'eg-1077' });
  await says(page, 'which is not the account of last time');
  await says(page, 'What was connected before stays as it was');
});

test('the forum, with a code on another device', { timeout: LONG }, async () => {
  const page = await phone();
  await page.goto(await invite('notchboard', 'device'));
  await page.getByRole('button', { name: 'Use a code on another device' }).click();
  const code = (await page.locator('.code').textContent()) ?? '';
  const device = await phone();
  await device.goto((await page.getByRole('link', { name: 'open it here' }).getAttribute('href'))?.split('?')[0] ?? '');
  await device.locator('[name=user_code]').fill(code);
  await device.locator('form button').first().click();
  await signInThere(device, 'eg-2001');
  await device.locator('button[value=agree]').click();
  await page.getByRole('link', { name: 'I have entered it' }).click();
  await says(page, 'Connected.');
});

test('links: used, revoked, unknown, and the back button after all is done', { timeout: LONG }, async () => {
  const page = await phone();
  const url = await invite('oakum', 'once');
  await page.goto(url);
  await page.getByRole('button', { name: 'Continue to Oakum' }).click();
  await decide(page);
  await says(page, 'Connected.');
  await page.goBack();
  await page.goBack().catch(() => null);
  await page.goto(url);
  await says(page, 'Connected.');
  expect(await page.getByRole('button', { name: 'Reconnect' }).count()).toBe(0); // used
  await page.goto(`${service.url}/i/${'x'.repeat(32)}`);
  await says(page, 'This link is not valid');
  expect(await page.getByText('console').count()).toBe(0);
});

test.each([false, true])('no violation on any page, nothing wider than a phone; dark: %s', { timeout: LONG }, async (dark) => {
  const page = await phone({ dark, checked: true });
  const found: string[] = [];
  const look = async (where: string): Promise<void> => void found.push(...(await violations(page, where)));
  await page.goto(await invite('eelgrass', `checked-${dark}`, { expected_account: 'someone.with.a.very.long.name@saltmarsh-ferries-and-islands.example' }));
  await look('asked');
  await page.getByRole('button', { name: 'Continue to Eelgrass' }).click();
  await decide(page);
  await look('another account');
  const other = await invite('oakum', `checked-${dark}`);
  await page.goto(other);
  await page.getByRole('button', { name: 'Continue to Oakum' }).click();
  await decide(page);
  await look('connected');
  await page.getByRole('link', { name: 'Disconnect' }).click();
  await look('disconnect');
  await page.goto(`${service.url}/i/${'x'.repeat(32)}`);
  await look('unknown');
  await page.goto(await invite('notchboard', `checked-${dark}`));
  await page.getByRole('button', { name: 'Use a code on another device' }).click();
  await says(page, 'Enter this code');
  await look('device');
  expect(found).toEqual([]);
  await eventually(async () => (await call('listPeople', { params: { connection: 'eelgrass' }, query: {} })).total > 0);
});
