import type { Page } from 'playwright-core';
import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { type OpenBrowser, openBrowser } from '../testing/chromium.ts';
import { PASSWORD, removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { followStep } from './support/follow-guide.ts';
import { type StandinUnderTest, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/**
 * Guides followed in a browser by clicking through both consoles, with nothing but what the guide shows: links, names in quotation
 * marks, values. Prints steps and time of each.
 */
const NAMES = ['ledgerfin', 'piermaster', 'bosunry', 'eelgrass', 'berthline', 'wharfpost', 'notchboard', 'oakum', 'deckhail'] as const;
const at = {} as Record<(typeof NAMES)[number], StandinUnderTest>;
let [service, browser, call, page]: [ServiceUnderTest, OpenBrowser, ApiClient, Page] = [] as never;

beforeAll(async () => {
  service = await startService({ databaseUrl: await newDatabase() });
  call = await signIn(service);
  for (const name of NAMES) {
    at[name] = await startUnderTest(name, 3600);
    await call('addProvider', { body: { document: at[name].definitionText } });
  }
  browser = await openBrowser();
  page = browser.context.pages()[0] ?? (await browser.context.newPage());
  await page.goto(service.url);
  await page.getByLabel('Name').fill('marit');
  await page.getByLabel('Password').fill(PASSWORD);
  await page.getByRole('button', { name: 'Sign in' }).click();
  await page.getByRole('heading', { name: 'Overview' }).waitFor();
});
afterAll(async () => {
  await browser?.close();
  await service?.stop();
  for (const standin of Object.values(at)) await standin.stop();
  removeFolder(service.folder);
});
const go = (hash: string) => page.evaluate((to) => location.assign(to), hash);
const steps = () => page.locator('ol > li').filter({ has: page.locator('[data-step]') });

async function startDraft(provider: string, name: string, title: string, more: Record<string, string> = {}): Promise<void> {
  await go(`#/providers/${provider}/clients/new`);
  await page.getByRole('textbox', { name: 'Name', exact: true }).fill(name);
  await page.getByLabel('Title').fill(title);
  for (const [label, value] of Object.entries(more)) await page.getByLabel(label, { exact: true }).fill(value);
  await page.getByRole('button', { name: 'Start the draft' }).click();
  await page.getByText('Step by step').waitFor();
}

/** Follows every step, enters at the step what it brings, and ticks it. The steps done and the presses at the provider. */
async function follow(
  given: { publicPart?: string } = {},
  before?: (title: string) => Promise<'followed' | undefined>,
): Promise<{ done: number; presses: number; compared: string[] }> {
  let there: Page | null = null;
  const result = { done: 0, presses: 0, compared: [] as string[] };
  const count = await steps().count();
  for (let n = 0; n < count; n += 1) {
    const step = steps().nth(n);
    const title = await step.locator('label').first().innerText();
    if ((await before?.(title)) !== 'followed') {
      const listed = step.getByLabel('Who will consent: the account to list');
      if ((await listed.count()) > 0) {
        await listed.fill('marit.holm@saltmarsh.example');
        await step.getByRole('button', { name: 'Save accounts' }).click();
        await listed.waitFor({ state: 'detached' });
      }
      expect(await step.getByText('Still missing').count(), `${title}: ${await step.innerText()}`).toBe(0);
      const link = step.getByRole('link', { name: 'Open that page' });
      if ((await link.count()) > 0) {
        await there?.close();
        [there] = await Promise.all([page.waitForEvent('popup'), link.click()]);
        await there.waitForLoadState();
      }
      if (!there) throw new Error(`${title} leads to no page`);
      await there.bringToFront();
      const { copied, presses } = await followStep(there, await step.locator('[data-step]').innerText(), given);
      await page.bringToFront();
      result.presses += presses;
      const id = step.getByLabel(/^From their page: (?!.*(secret|key$))/i).first();
      const [first, ...others] = Object.values(copied);
      const secret = step.locator('input[type=password]');
      if ((await secret.count()) > 0) {
        await secret.fill(first ?? '');
        const ends = await there.locator('#secret-ends').count();
        if (ends > 0) await step.getByLabel('Expires on').fill(await there.locator('#secret-ends').innerText());
        await step.getByRole('button', { name: 'Save secret' }).click();
        await step.getByText('Entered and sealed.').waitFor();
      } else if ((await id.count()) > 0) {
        await id.fill(first ?? '');
        await step.getByRole('button', { name: 'Save id' }).click();
        await step.getByText('Entered:').waitFor();
      } else if (first) result.compared.push(first, ...others);
      for (const name of ['Mark as registered', 'Mark as listed']) {
        const button = step.getByRole('button', { name });
        if ((await button.count()) > 0) {
          await button.click();
          await button.waitFor({ state: 'detached' });
        }
      }
      await step.getByRole('checkbox').check();
    }
    result.done += 1;
    await page
      .getByText(n + 1 === count ? 'All steps are done.' : `${count - n - 1} of ${count} steps left.`)
      .first()
      .waitFor();
  }
  await there?.close();
  return result;
}
const report = (provider: string, startedAt: number, walk: { done: number; presses: number }) =>
  process.stdout.write(
    `${provider}: ${walk.done} steps, ${walk.presses} presses at the provider, ${((Date.now() - startedAt) / 1000).toFixed(1)} s from an empty draft to the verified connection\n`,
  );

test('Ledgerfin, for posting: a certificate made here, uploaded there, its thumbprint compared, verified by a token', async () => {
  const startedAt = Date.now();
  await startDraft('ledgerfin', 'posting', 'Nightly posting', { Tenant: 'lf204816' });
  await page.getByLabel('Purpose').selectOption('posting');
  await page.getByText('3 of 3 steps left.').waitFor();
  await page.getByLabel('It authenticates by').selectOption('private_key_jwt');
  await page.getByLabel('Common name').fill('Saltmarsh posting');
  await page.getByLabel('Key', { exact: true }).selectOption('RSA-2048');
  await page.getByRole('button', { name: 'Save', exact: true }).click();
  await page.getByText('The key is made and sealed').waitFor();
  await page.getByRole('button', { name: 'Public part' }).click();
  const publicPart = decodeURIComponent(((await page.getByRole('link', { name: 'Download PEM' }).getAttribute('href')) ?? '').split(',')[1] ?? '');
  expect([publicPart.includes('BEGIN CERTIFICATE'), publicPart.includes('PRIVATE')]).toEqual([true, false]);
  const walk = await follow({ publicPart });
  const [shown = ''] = walk.compared;
  expect(shown).toMatch(/^[0-9A-F]{40}$/);
  // As people paste it: lower case, colons, a space at the end.
  await page.getByLabel('The thumbprint that the provider shows').fill(`${(shown.toLowerCase().match(/../g) ?? []).join(':')} `);
  await page.getByRole('button', { name: 'Compare', exact: true }).click();
  await page.getByText('It is the SHA-1 thumbprint of this certificate.').waitFor();
  await call('changeClient', {
    params: { provider: 'ledgerfin', client: 'posting' },
    body: {
      revision: (await call('showClient', { params: { provider: 'ledgerfin', client: 'posting' } })).revision,
      registered_scopes: ['books.read', 'books.post'],
    },
  });
  await call('addConnection', {
    body: { name: 'postings', provider: 'ledgerfin', client: 'posting', scopes: ['books.read', 'books.post'], operations: ['post-entry'] },
  });
  await go('#/connections/postings');
  await page.getByRole('button', { name: 'Request the token' }).click();
  await page.getByRole('heading', { name: 'postings is connected' }).waitFor();
  report('Ledgerfin', startedAt, walk);
}, 120_000);

test('Piermaster: a secret with an end, everything ready first, then the printed code, pasted once', async () => {
  const startedAt = Date.now();
  await startDraft('piermaster', 'directory', 'Staff directory', { Audience: 'pm:dir:staff' });
  await page.getByLabel('Purpose').selectOption('acting for a person');
  await page.getByText('4 of 4 steps left.').waitFor();
  const walk = await follow({}, async (title) => {
    if (!title.includes('Print a code')) return undefined;
    // The step asks to open the connection here first; its page then leads to theirs.
    const client = page.url();
    await call('addConnection', { body: { name: 'staff', provider: 'piermaster', client: 'directory', scopes: ['staff.read'] } });
    await go('#/connections/staff');
    await page.getByText('Ready.', { exact: true }).waitFor();
    await page.getByRole('button', { name: 'Go to consent' }).click();
    // That press opened a tab of its own and closed it again: which tab is theirs, its address says.
    const theirs = page.getByRole('link', { name: 'Open their page' });
    const href = (await theirs.getAttribute('href')) ?? '';
    await page.bringToFront();
    await theirs.click();
    const there = await eventually(
      async () =>
        page
          .context()
          .pages()
          .find((one) => one.url().startsWith(href)),
      30_000,
      'their page',
    );
    await page.getByRole('timer').waitFor();
    await there.getByRole('link', { name: 'Print a grant code' }).click();
    const { copied } = await followStep(there, 'choose “Print a code”, copy “Code” and paste it on that page.');
    await there.close();
    await page.bringToFront();
    await page.getByLabel('Code').fill(copied.Code ?? '');
    await page.getByRole('button', { name: 'Exchange it' }).click();
    await page.getByRole('heading', { name: 'staff is connected' }).waitFor();
    await page.goto(client);
    await steps().nth(3).getByRole('checkbox').check();
    return 'followed';
  });
  const { secrets } = await call('showClient', { params: { provider: 'piermaster', client: 'directory' } });
  expect(Date.parse(secrets[0]?.ends_at ?? '') - Date.now()).toBeLessThan(181 * 86_400_000);
  expect(await call('showConnection', { params: { connection: 'staff' } })).toMatchObject({ state: 'working', has_refresh_token: true });
  report('Piermaster', startedAt, walk);
}, 120_000);

test.each([
  ['eelgrass', {}, ''],
  ['berthline', { region: 'north' }, ''],
  ['wharfpost', {}, ''],
  ['notchboard', {}, 'live'],
  ['notchboard', {}, 'trying'],
  ['oakum', {}, ''],
  ['deckhail', {}, ''],
] as const)(
  '%s %j %s: its guide leads from nothing to a client with which nothing is missing',
  async (provider, placeholders, purpose) => {
    const startedAt = Date.now();
    const client = purpose || 'guided';
    const environment = purpose === 'trying' ? ('sandbox' as const) : ('live' as const);
    const draft = await call('addClient', { body: { provider, name: client, title: 'By the guide', placeholders, environment } });
    if (purpose) await call('changeClient', { params: { provider, client }, body: { revision: draft.revision, registering: { purpose } } });
    await call('changeAnswers', {
      body: {
        organization: 'Saltmarsh Ferries',
        purpose: 'Boards',
        contact: 'apis@saltmarsh.example',
        platform: 'A server',
        home_page: 'https://saltmarsh.example',
        privacy_page: 'https://saltmarsh.example/privacy',
      },
    });
    await go(`#/providers/${provider}/clients/${client}`);
    await page.getByRole('heading', { name: `/ ${client}` }).waitFor();
    await steps().first().waitFor();
    const walk = await follow();
    const shown = await call('showClient', { params: { provider, client } });
    expect([shown.missing, shown.guide.every((step) => step.done)]).toEqual([[], true]);
    const there = at[provider].store.state.clients[shown.client_id ?? ''];
    expect(there).toMatchObject({ unsavedUris: null, ...(purpose === 'trying' ? { realm: 'sandbox' } : {}) });
    if (shown.type !== 'service_account') expect(there?.redirectUris).toEqual([shown.redirect_uri]);
    report(`${provider} ${purpose}`.trim(), startedAt, walk);
  },
  60_000,
);

test('Bosunry: folder, app, host, address, key, rights, listed account; ready before consent, and the listed account agrees', async () => {
  await go('#/settings');
  for (const [label, text] of [
    ['Organization', 'Saltmarsh Ferries'],
    ['Contact', 'apis@saltmarsh.example'],
    ['Home page', 'https://saltmarsh.example'],
    ['Privacy page', 'https://saltmarsh.example/privacy'],
  ] as const)
    await page.getByLabel(label, { exact: true }).fill(text);
  await page.getByRole('button', { name: 'Save' }).click();
  await page.getByText('They are offered in every guide').waitFor();
  const startedAt = Date.now();
  await startDraft('bosunry', 'rosters', 'Roster board');
  const walk = await follow();
  const ours = await page.locator('code').filter({ hasText: '/oauth/callback/bosunry/rosters' }).first().innerText();
  expect(at.bosunry.store.state.clients[(await call('showClient', { params: { provider: 'bosunry', client: 'rosters' } })).client_id ?? '']).toMatchObject({
    project: 'Saltmarsh Ferries',
    redirectUris: [ours],
    domains: ['127.0.0.1'],
    listed: ['marit.holm@saltmarsh.example'],
    reach: 'listed',
    apis: ['rosters'],
    scopes: ['rosters:read', 'whoami', 'offline_access'],
    consentPage: { name: 'Roster board', privacy_page: 'https://saltmarsh.example/privacy' },
  });
  await page.getByLabel('as their page shows it after saving').fill(`${ours}/`);
  await page.getByRole('button', { name: 'Compare', exact: true }).click();
  await page.getByText('has a slash too many').first().waitFor();
  await page.getByLabel('as their page shows it after saving').fill(ours);
  await page.getByRole('button', { name: 'Compare', exact: true }).click();
  await page.getByText('They match, character by character.').waitFor();
  await call('addConnection', {
    body: {
      name: 'rosters',
      provider: 'bosunry',
      client: 'rosters',
      scopes: ['rosters:read', 'whoami', 'offline_access'],
      expected_account: 'marit.holm@saltmarsh.example',
    },
  });
  await go('#/connections/rosters');
  await page.getByText('Ready.', { exact: true }).waitFor();
  await page.getByRole('button', { name: 'Go to consent' }).click();
  const [there] = await Promise.all([
    page.waitForEvent('popup', { predicate: (tab) => !tab.isClosed() }),
    page.getByRole('button', { name: 'Continue anyway' }).click(),
  ]);
  await there.getByLabel('Password').fill('low-tide');
  await there.getByRole('button', { name: 'Sign in' }).click();
  await there.getByText('This application is not published.').waitFor();
  await there.getByRole('button', { name: 'Agree' }).click();
  await page.getByRole('heading', { name: 'rosters is connected' }).waitFor();
  expect(await call('showConnection', { params: { connection: 'rosters' } })).toMatchObject({ state: 'working', account: 'marit.holm@saltmarsh.example' });
  report('Bosunry', startedAt, walk);
}, 120_000);
