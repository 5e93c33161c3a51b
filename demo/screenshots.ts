import { mkdirSync } from 'node:fs';
import { join } from 'node:path';
import type { Page } from 'playwright-core';
import type { ApiClient } from '../src/api/client.ts';
import { eventually } from '../testing/waiting.ts';
import { seedConsents } from './consents.ts';
import { ensureOperator, seedBerthline } from './harbour.ts';
import { runAgain, seedJobs } from './jobs.ts';
import { seedPeople } from './people.ts';
import { ROOT, rk } from './processes.ts';
import { seedOthers } from './providers.ts';
import { feelLimit, postTwice, seedTools, startAnnouncer } from './tools.ts';
import { tour } from './tour.ts';
import { seedTrust } from './trust.ts';

/** `npm run screenshots`: plays the tour and keeps a picture of each main page in docs/screenshots/ (or the folder named). */
const folder = process.argv[2] ?? join(ROOT, 'docs/screenshots');
mkdirSync(folder, { recursive: true });
const say = (text: string) => process.stdout.write(`${text}\n`);

async function shoot(page: Page, name: string): Promise<void> {
  await page.evaluate('document.fonts.ready');
  await page.screenshot({ path: join(folder, `${name}.png`), animations: 'disabled' });
}

async function shootAt(page: Page, name: string, hash: string, shows: string, heading?: string): Promise<void> {
  await page.evaluate((to) => location.assign(to), hash);
  await page.getByText(shows).first().waitFor();
  await page.waitForTimeout(1_200); // the life line moves once a second
  if (heading) await page.locator(heading).evaluate((one) => one.scrollIntoView());
  await shoot(page, name);
}

/** The provider's console and our guide, each at half a screen's width, as they stand beside each other at work. */
async function sideBySide(page: Page, consolePage: string, ours: (clientId: string) => Promise<string>): Promise<void> {
  const there = await page.context().newPage();
  await there.setViewportSize({ width: 640, height: 800 });
  await there.goto(consolePage);
  await there.getByLabel('Name').fill('Saltmarsh Ferries');
  await there.getByRole('button', { name: 'Create' }).click();
  await there.getByLabel('Name of the app').fill('Roster board');
  await there.getByRole('button', { name: 'Create' }).click();
  const clientId = await there.locator('#client-id').innerText();
  await there.getByRole('link', { name: 'Trusted hosts' }).click();
  await there.getByLabel('Domain').fill('127.0.0.1');
  await there.getByRole('button', { name: 'Add' }).click();
  await there.getByRole('link', { name: 'Return addresses' }).click();
  const hash = await ours(clientId);
  await page.bringToFront();
  await page.setViewportSize({ width: 640, height: 800 });
  await page.evaluate((to) => location.assign(to), hash);
  await page.getByText('steps left').first().waitFor();
  const step = page
    .locator('li')
    .filter({ has: page.locator('[data-step]') })
    .filter({ hasText: 'save the list' })
    .last();
  await there.getByLabel('Address to add').fill(await step.locator('code').first().innerText());
  await there.getByRole('button', { name: 'Add', exact: true }).click();
  await step.evaluate((one) => one.scrollIntoView());
  const halves = await Promise.all([there, page].map(async (half) => (await half.screenshot({ animations: 'disabled' })).toString('base64')));
  await page.setViewportSize({ width: 1280, height: 800 });
  await there.setViewportSize({ width: 1280, height: 800 });
  await there.setContent(
    `<body style="margin:0;display:flex">${halves.map((half) => `<img width="640" height="800" alt="" src="data:image/png;base64,${half}">`).join('')}</body>`,
  );
  await there.waitForTimeout(300);
  await shoot(there, 'guide');
  await there.close();
}

/** A person's pages on a phone, side by side: what is asked, what is connected, before it ends. */
async function phonePicture(page: Page, call: ApiClient): Promise<void> {
  const { url } = await call('invitePerson', {
    params: { connection: 'crew-id' },
    body: { person: 'member-17', name: 'Ingrid N.', purpose: 'Show your valid certificates on your page.', caller: 'crew-portal' },
  });
  const phone = await page.context().newPage();
  await phone.setViewportSize({ width: 426, height: 800 });
  const shots: string[] = [];
  const keep = async (): Promise<void> => void shots.push((await phone.screenshot()).toString('base64'));
  await phone.goto(url);
  await keep();
  await phone.getByRole('button', { name: 'Continue to Oakum' }).click();
  await phone.locator('[name=account][value="eg-1042"]').check();
  await phone.locator('[name=password]').fill('low-tide');
  await phone.locator('form button').first().click();
  await phone.locator('button[value=agree]').click();
  await phone.getByText('Connected.').waitFor();
  await keep();
  await phone.getByRole('link', { name: 'Disconnect' }).click();
  await phone.getByRole('link', { name: 'Keep it' }).waitFor();
  await keep();
  await phone.goto('about:blank'); // the page's own policy shows no pictures of ours
  await phone.setViewportSize({ width: 1280, height: 800 });
  await phone.setContent(
    `<body style="margin:0;display:flex;gap:1px;background:#999">${shots.map((shot) => `<img width="426" height="800" alt="" src="data:image/png;base64,${shot}">`).join('')}</body>`,
  );
  await phone.waitForTimeout(300);
  await shoot(phone, 'person');
  await phone.close();
}

/** A rehearsal of the demo's own set-up: a client secret expires. */
async function rehearsalPicture(page: Page, call: ApiClient): Promise<void> {
  const { id } = await call('startRehearsal', { body: { scenario: 'secret_expires', hits: 'eelgrass', providers: ['eelgrass', 'berthline', 'oakum'] } });
  const done = await eventually(
    async () => {
      const seen = await call('showRehearsal', { params: { rehearsal: id } });
      return seen.state === 'running' ? null : seen;
    },
    600_000,
    'the end of the rehearsal',
  );
  if (done.state !== 'done') throw new Error(done.doing);
  await shootAt(page, 'rehearsal', `#/rehearsals/${id}`, 'What happened');
}

/** What a terminal shows, drawn by the browser: the text is rk's own, untouched. */
async function shootTerminal(page: Page, commands: string[][], environment: Record<string, string>): Promise<void> {
  let text = '';
  for (const args of commands) {
    const { out, err } = await rk(args, environment);
    text += `$ rk ${args.map((arg) => (/[?&]/.test(arg) ? `'${arg}'` : arg)).join(' ')}\n${err}${out}\n`;
  }
  await page.setContent(
    '<body style="margin:0;background:#1d1f21"><pre style="margin:24px;color:#e9e2d4;font:14px/1.45 \'Source Code Pro\',\'DejaVu Sans Mono\',monospace;white-space:pre-wrap"></pre></body>',
  );
  await page.locator('pre').evaluate((pre, shown) => {
    pre.textContent = shown;
  }, text);
  await shoot(page, 'rk');
}

/** Of the pages that the tour comes by. */
const SHOWN = new Set(['connection']);
const good = await tour(say, {
  others: true,
  lifeSeconds: 20,
  look: async (name, page) => void (SHOWN.has(name) && (await shoot(page, name))),
  async after(harbour, page) {
    const call = await ensureOperator(harbour);
    await seedBerthline(harbour, call, ['berths-inner-quay', 'berths-ferry-quay', 'berths-winter']);
    await seedOthers(harbour, call);
    await seedConsents(harbour, call);
    await seedTools(call);
    await postTwice(harbour, call);
    await feelLimit(harbour, call);
    await seedTrust(harbour, call);
    await shootAt(page, 'operators', '#/settings/operators', 'oda');
    await shootAt(page, 'client', '#/providers/ledgerfin/clients/nightly', 'Step by step');
    const stand = { provider: 'bosunry', client: 'board' };
    const board = await call('addClient', { body: { provider: 'bosunry', name: 'board', title: 'Roster board' } });
    await sideBySide(page, board.registration_page ?? '', async (clientId) => {
      await call('changeClient', {
        params: stand,
        body: { revision: board.revision, client_id: clientId, registering: { done: board.guide.slice(0, 3).map((step) => step.title) } },
      });
      return '#/providers/bosunry/clients/board';
    });
    await seedJobs(call, 'berths-ferry-quay');
    for (let runs = 0; runs < 5; runs += 1) await runAgain(call, 'berth-report');
    await shootAt(page, 'job', '#/jobs/berth-report', 'Duration');
    await shootAt(page, 'provider', '#/providers/notchboard', 'Change the definition');
    await shootAt(page, 'connections', '#/connections', 'of 1');
    await shootAt(page, 'providers', '#/providers', 'Start a client');
    const announcer = await startAnnouncer(harbour, call, () => undefined, '1000');
    await page.evaluate(() => location.assign('#/callers/deck-announcer/setup'));
    await page.getByRole('cell', { name: 'signed in', exact: true }).waitFor();
    await page.getByRole('button', { name: /^Only “sign in”/ }).click();
    await shootAt(page, 'caller', '#/callers/deck-announcer/setup', 'Authorization URL');
    await page.evaluate(() => location.assign('#/connections/sailings/test-call'));
    await page.getByRole('button', { name: 'rows-of-a-table', exact: true }).click();
    await page.getByLabel('table', { exact: true }).fill('sailings');
    await page.getByRole('button', { name: 'Send' }).click();
    await page.getByText('it works').last().waitFor();
    await shoot(page, 'test-call');
    await announcer.stop();
    await page.getByRole('button', { name: 'Dark' }).click();
    await shootAt(page, 'upcoming', '#/upcoming', 'Begin by');
    await page.getByRole('button', { name: 'Light' }).click();
    await rehearsalPicture(page, call);
    await seedPeople(harbour, call);
    await phonePicture(page, call);
    await shootAt(page, 'people', '#/connections/crew-id', 'Ingrid N.');
    await shootAt(page, 'privilege', '#/privilege', 'Depends on one person');
    const terminal = await page.context().newPage();
    await shootTerminal(
      terminal,
      [
        ['status'],
        ['caller', 'list'],
        ['connection', 'quota', 'parcels'],
        ['caller', 'setup', 'deck-announcer'],
        ['call', 'sailings', '--saved', 'rows-of-a-table', '--fill', 'table=sailings', 'how_many=1'],
      ],
      {
        XDG_CONFIG_HOME: harbour.folder,
      },
    );
    await terminal.close();
    await fetch(`http://127.0.0.1:${new URL(harbour.standinUrl).port}/standin/withdraw`, { method: 'POST' });
    await call('addSecret', { params: { provider: 'berthline', client: 'harbour' }, body: { secret: 'mistyped', at_once: true } });
    await call('renewConnection', { params: { connection: 'berths-winter' } });
    await shootAt(page, 'notices', '#/notices', 'Berthline rejects the client');
    await page.evaluate(() => location.assign('#/'));
    await page.locator('canvas').first().waitFor({ state: 'attached' });
    await shootAt(page, 'now', '#/', 'Berthline rejects the client');
  },
});
process.exit(good ? 0 : 1);
