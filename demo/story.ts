import type { BrowserContext, Page } from 'playwright-core';

/** What the story needs to be played: a running service without providers, a stand-in, and ways to run `rk` and the integration. */
export interface Stage {
  context: BrowserContext;
  consoleUrl: string;
  definitionFile: string;
  operator: string;
  password: string;
  rk(args: string[], input?: string): Promise<{ code: number | null; out: string; err: string }>;
  /** Starts the integration; the answer ends it and gives its last line. */
  startIntegration(settings: { TOKEN_URL: string; CLIENT_ID: string; CLIENT_SECRET: string }): { end(): Promise<string> };
  renewals(connection: string): Promise<number>;
  /** Told of each step and what came back. */
  say(step: string, cameBack: string): void;
  /** Called when a page is worth a picture. */
  look?(name: string, page: Page): Promise<void>;
}

const RENEWALS_WANTED = 5;
const RENEWALS_LIMIT_MS = 10 * 60_000;

/** The whole story, from sign-in to an integration that lives through five renewals. Throws where a step fails. */
export async function playStory(stage: Stage): Promise<{ calls: number; failures: number }> {
  const { context, say } = stage;
  const page = context.pages()[0] ?? (await context.newPage());
  const look = async (name: string, of: Page = page) => stage.look?.(name, of);

  await page.goto(stage.consoleUrl);
  await look('sign-in');
  await page.getByLabel('Operator name').fill(stage.operator);
  await page.getByLabel('Password').fill(stage.password);
  await page.getByRole('button', { name: 'Sign in' }).click();
  await page.getByRole('heading', { name: 'First steps' }).waitFor();
  say('Sign in', 'the Overview, with the first steps');

  await page.getByRole('link', { name: 'Add a provider' }).click();
  await page.getByRole('radio', { name: 'Definition file' }).check();
  await page.locator('input[type=file]').setInputFiles(stage.definitionFile);
  await page.getByRole('button', { name: 'Add Eelgrass' }).click();
  await page.getByRole('heading', { name: 'Start a client' }).waitFor();
  say('Add the provider from its definition file', 'checked and added: Eelgrass');

  await page.getByRole('textbox', { name: 'Name', exact: true }).fill('timetable');
  await page.getByRole('button', { name: 'Start the draft' }).click();
  await page.getByRole('heading', { name: 'Register it at Eelgrass' }).waitFor();
  const redirectUri = await page.locator('code').filter({ hasText: '/oauth/callback/' }).first().innerText();
  await look('client-draft');
  say('Start the client as a draft', `our redirect URI: ${redirectUri}`);

  const registered = await register(page, redirectUri);
  say('Register at the provider', `client id ${registered.id}, and a secret shown once`);

  await page.getByLabel('Client id').fill(registered.id);
  await page.getByLabel('Client secret').fill(registered.secret);
  await page.getByRole('button', { name: 'Save', exact: true }).click();
  await page.getByText('The secret is sealed').waitFor();
  const shown = await page.content();
  if (shown.includes(registered.secret)) throw new Error('the secret is still on the page');
  say('Paste both into the draft', 'saved; the secret is sealed and not shown again');

  await page.getByRole('link', { name: 'Open a connection' }).first().click();
  await page.getByRole('textbox', { name: 'Name', exact: true }).fill('sailings');
  await page.getByLabel('Expected account').fill('marit.holm@saltmarsh.example');
  await look('open-connection');
  await page.getByRole('button', { name: 'Add the connection' }).click();
  const [provider] = await Promise.all([page.waitForEvent('popup'), page.getByRole('button', { name: 'Go to Eelgrass' }).click()]);
  await page.getByRole('heading', { name: 'Waiting for Eelgrass' }).waitFor();
  say('Open a connection', 'the provider opened in a tab of its own; this one waits');

  await provider.getByRole('button', { name: 'Sign in' }).waitFor();
  await look('waiting');
  await provider.getByLabel('Password').fill('low-tide');
  await provider.getByRole('button', { name: 'Sign in' }).click();
  await provider.getByRole('heading', { name: 'Do you consent?' }).waitFor();
  await look('standin-consent', provider);
  await provider.getByRole('button', { name: 'Agree' }).click();
  await provider.getByRole('heading', { name: 'sailings is connected' }).waitFor();
  const landed = await provider.locator('main').innerText();
  for (const part of ['marit.holm@saltmarsh.example consented', 'Received: the connection renews automatically', 'Sailings this week'])
    if (!landed.includes(part)) throw new Error(`the landing page does not say: ${part}`);
  await look('landing', provider);
  say('Consent at the provider', 'landed: who consented, to what, a refresh token came, and the answer of a first API call');
  await provider.close();

  await page.getByRole('heading', { name: 'sailings is connected' }).waitFor();
  await page.getByRole('link', { name: 'Show the connection' }).click();
  await page.getByText('working', { exact: true }).waitFor();
  await page.getByText(/renewed (once|[1-9]\d* times)/).waitFor({ timeout: RENEWALS_LIMIT_MS });
  await look('connection');
  say('Watch the connection', `working; the lifetime strip ran down and it was ${await page.getByText(/renewed (once|\d+ times)/).innerText()}`);

  const signedIn = await stage.rk(['sign-in', '--url', stage.consoleUrl, '--name', stage.operator], stage.password);
  const called = await stage.rk(['call', 'sailings', 'GET', '/tables']);
  if (signedIn.code !== 0 || called.code !== 0 || !called.out.includes('Sailings this week')) throw new Error(`rk call failed: ${signedIn.err}${called.err}`);
  say('rk call sailings GET /tables', `the same answer: ${called.out.replace(/\s+/g, ' ').slice(0, 90)}\u2026`);

  await page.getByRole('navigation').getByRole('link', { name: 'Callers' }).click();
  await page.getByRole('textbox', { name: 'Name', exact: true }).fill('timetable-board');
  await page.getByRole('checkbox', { name: /sailings/ }).check();
  await page.getByRole('button', { name: 'Add and make a key' }).click();
  const note = page.getByRole('status', { name: 'The new key' });
  const value = (label: string) => note.locator('dt', { hasText: label }).locator('xpath=following-sibling::dd[1]').locator('code').first().innerText();
  const settings = { TOKEN_URL: await value('Token URL'), CLIENT_ID: await value('Client id'), CLIENT_SECRET: await value('Client secret') };
  await note.getByRole('button', { name: 'I have copied it' }).click();
  say('Add a caller', `id ${settings.CLIENT_ID}, and a key shown once`);

  const before = await stage.renewals('sailings');
  const integration = stage.startIntegration(settings);
  for (const endsAt = Date.now() + RENEWALS_LIMIT_MS; (await stage.renewals('sailings')) < before + RENEWALS_WANTED; await page.waitForTimeout(500))
    if (Date.now() > endsAt) throw new Error('five renewals did not come');
  await page.getByRole('navigation').getByRole('link', { name: 'Overview' }).click();
  await page.getByRole('heading', { name: 'Working' }).waitFor();
  await look('now');
  const last = await integration.end();
  const [, calls = '0', failures = '1'] = /(\d+) calls, (\d+) failures/.exec(last) ?? [];
  say('Run the integration across five renewals', last);
  if (Number(failures) > 0 || Number(calls) === 0) throw new Error(`the integration failed: ${last}`);
  return { calls: Number(calls), failures: Number(failures) };
}

/** The provider's own developer console, in a tab of its own: what the guide shows, page by page. */
async function register(page: Page, redirectUri: string): Promise<{ id: string; secret: string }> {
  const [there] = await Promise.all([page.waitForEvent('popup'), page.getByRole('link', { name: 'Open the registration page' }).click()]);
  const part = async (name: string, work: () => Promise<unknown>, button: string): Promise<void> => {
    await there.getByRole('link', { name, exact: true }).click();
    await work();
    await there.getByRole('button', { name: button, exact: true }).click();
  };
  const back = () => there.getByRole('link', { name: 'Saltmarsh Ferries timetable' }).click();
  await there.getByLabel('Name of the client').fill('Saltmarsh Ferries timetable');
  await there.getByRole('button', { name: 'Create' }).click();
  const id = await there.locator('#client-id').innerText();
  await part('Services', () => there.getByLabel('Tables and calendars').check(), 'Save');
  await back();
  const scopes = ['tables.read', 'calendars.read', 'profile', 'offline_access'];
  const tick = async () => {
    for (const scope of scopes) await there.locator(`input[value="${scope}"]`).check();
  };
  await part('Permissions', tick, 'Save');
  await back();
  await part('Redirect URIs', () => there.getByLabel('Address to add').fill(redirectUri), 'Add');
  await there.getByRole('button', { name: 'Save the list' }).click();
  await back();
  await part('Secrets', () => there.getByLabel('Label').fill('Rusty Kettle'), 'Make a secret');
  const secret = await there.locator('#client-secret').innerText();
  await there.close();
  return { id, secret };
}
