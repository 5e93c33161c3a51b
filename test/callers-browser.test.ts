import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import type { Page } from 'playwright-core';
import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { type OpenBrowser, openBrowser } from '../testing/chromium.ts';
import { PASSWORD, removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addConnection, addEelgrass, agree, type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';
import { tool } from './support/tool.ts';

/** What someone new does from these pages: give one connection to a tool, let a tool sign in, try a call. */
let [service, standin, call, browser, page, back] = [] as unknown as [ServiceUnderTest, StandinUnderTest, ApiClient, OpenBrowser, Page, Server];
const came: URL[] = [];
const go = async (hash: string, heading: string) => {
  await page.evaluate((to) => location.assign(to), hash);
  await page.getByRole('heading', { name: heading }).first().waitFor();
};
const tab = (name: string) =>
  page
    .getByRole('navigation', { name: 'Sections' })
    .getByRole('link', { name: new RegExp(`^${name}`) })
    .click();
const submitSignIn = async (of: Page) => {
  await of.getByLabel('Operator name').fill('marit');
  await of.getByLabel('Password').fill(PASSWORD);
  await of.getByRole('button', { name: 'Sign in' }).click();
};

beforeAll(async () => {
  standin = await startEelgrass(600);
  service = await startService({ databaseUrl: await newDatabase() });
  call = await signIn(service);
  await addEelgrass(call, standin);
  for (const name of ['sailings', 'tides']) {
    await addConnection(call, name, ['tables.read', 'tables.write', 'profile', 'offline_access']);
    await agree(call, name);
  }
  await call('addCaller', { body: { name: 'board', title: 'The board' } });
  back = createServer((request, response) => {
    if (request.url?.startsWith('/done')) came.push(new URL(request.url, 'http://tool'));
    response.writeHead(200, { 'content-type': 'text/html' }).end('<!doctype html><title>Tool</title><h1>Back at the tool</h1>');
  });
  await new Promise<void>((resolve) => back.listen(0, '127.0.0.1', resolve));
  browser = await openBrowser();
  page = browser.context.pages()[0] ?? (await browser.context.newPage());
  await page.goto(service.url);
  await submitSignIn(page);
  await page.getByRole('heading', { name: 'Service' }).waitFor();
});
afterAll(async () => {
  await browser?.close();
  back?.close();
  await service?.stop();
  await standin?.stop();
  removeFolder(service.folder);
});

test('a caller\u2019s page: permit, read what to paste, add a key with an end, enter what the tool shows', async () => {
  await go('#/callers/board', 'board');
  await tab('Setup instructions');
  await page.getByText('Permit a connection first').waitFor();
  await tab('Permissions');
  await page.getByRole('button', { name: 'Add permission' }).click();
  await page.getByLabel('Connection', { exact: true }).fill('sailings');
  await page.getByRole('checkbox', { name: 'GET' }).check();
  await page.getByLabel('Paths through the relay').fill('/tables/**');
  await page.getByRole('button', { name: 'Permit it' }).click();
  await page.getByRole('cell', { name: 'tokens and relay, GET, /tables/**', exact: true }).waitFor();
  await tab('Setup instructions');
  await page.getByRole('button', { name: /^Token URL, id and secret/ }).click();
  await page.getByText(`${service.url}/oauth/token`, { exact: true }).waitFor();
  await page.getByText('connection:sailings', { exact: true }).waitFor();
  await page.getByRole('button', { name: /^Only “sign in”/ }).click();
  await page.getByText('The redirect URI that the tool shows: enter it at this caller.').waitFor();
  await page.getByRole('button', { name: 'Change…', exact: true }).click();
  await page.getByLabel('Redirect URIs of the tool').fill('http://tool.example/done');
  await page.getByRole('button', { name: 'Save', exact: true }).click();
  await page.getByText('Plain http is taken on the own machine only').waitFor();
  await page.getByLabel('Redirect URIs of the tool').fill('http://127.0.0.1/done');
  await page.getByRole('button', { name: 'Save', exact: true }).click();
  await page.getByText('The redirect URI that the tool shows: enter it at this caller.').waitFor({ state: 'detached' });
  await tab('Keys');
  await page.getByRole('button', { name: 'Add a key…' }).click();
  await page.getByLabel('Label').fill('pasted at the pier');
  await page.getByLabel('Stops working on').fill('2030-01-01');
  await page.getByRole('button', { name: 'Make the key' }).click();
  const key = await page.locator('#new-key code').innerText();
  await page.getByRole('button', { name: 'I have copied it' }).click();
  await page.locator('#new-key').waitFor({ state: 'detached' });
  await page.getByRole('cell', { name: 'pasted at the pier', exact: true }).waitFor();
  expect(await page.content()).not.toContain(key);
  expect((await call('showCaller', { params: { caller: 'board' } })).keys.find((one) => one.label === 'pasted at the pier')?.retired_at).toMatch(/^20(29|30)-/);
});

test('sign-in for tools: the tool sends the browser, someone signs in, chooses, and is back at the tool; the sign-in can be ended on the page', async () => {
  const { caller_id } = await call('showCaller', { params: { caller: 'board' } });
  const { key } = await call('addKey', { params: { caller: 'board' }, body: {} });
  const redirectUri = `http://127.0.0.1:${(back.address() as AddressInfo).port}/done`;
  const one = tool({ url: service.url, callerId: caller_id, key, redirectUri });
  const context = await openBrowser();
  try {
    const there = context.context.pages()[0] ?? (await context.context.newPage());
    await there.goto(`http://localhost:${(back.address() as AddressInfo).port}/`); // another site than ours
    await there.evaluate((to) => location.assign(to), `${service.url}${one.authorize}`);
    await submitSignIn(there);
    await there.getByRole('heading', { name: 'Let The board use which connection?' }).waitFor();
    expect(await there.locator('main').innerText()).toContain(`127.0.0.1:${(back.address() as AddressInfo).port}`);
    await there.getByRole('radio', { name: 'sailings' }).check();
    await there.getByRole('button', { name: 'Let it use sailings' }).click();
    await there.getByRole('heading', { name: 'Back at the tool' }).waitFor();
    const [given] = came;
    expect([given?.searchParams.get('state'), given?.searchParams.get('iss')]).toEqual([one.state, service.url]);
    const { status, body } = await one.exchange(given?.searchParams.get('code') ?? '');
    expect(status).toBe(200);
    await tab('Setup instructions');
    await page.getByRole('cell', { name: 'signed in', exact: true }).waitFor();
    await page.getByRole('button', { name: 'End…' }).click();
    await page.getByRole('button', { name: 'End it' }).click();
    await page.getByText('ended by an operator').waitFor();
    expect((await one.renew(String(body.refresh_token))).body.error).toBe('invalid_grant');
    await there.goto(`${service.url}/oauth/authorize?client_id=${caller_id}&redirect_uri=${encodeURIComponent('https://evil.example/<script>')}`);
    await there.getByRole('heading', { name: 'It stops here' }).waitFor();
    expect(await there.locator('main').innerText()).toContain('https://evil.example/<script>'); // as text
  } finally {
    await context.close();
  }
});

test('try a call: an operation filled in, the answer as a table; on a live connection a write asks with the environment large; saved for everyone', async () => {
  await go('#/connections/sailings/test-call', 'Call the API');
  await page.getByRole('button', { name: /GET \/tables\/\{table\}\/rows/ }).click();
  await page.getByText('Fill in first: table.').waitFor();
  expect(await page.getByRole('button', { name: 'Send' }).isDisabled()).toBe(true);
  await page.getByLabel('table', { exact: true }).fill('boats');
  await page.getByRole('button', { name: 'Send' }).click();
  await page.getByText('200 it works').last().waitFor();
  await page.getByRole('cell', { name: 'Sandpiper' }).waitFor();
  await page.getByRole('button', { name: 'tree' }).click();
  await page.locator('summary', { hasText: '2: {4}' }).click();
  await page.getByText('"Sandpiper"').waitFor();
  await page.getByLabel('Name of the saved call').fill('boats');
  await page.getByRole('button', { name: 'Save call' }).click();
  await page.getByRole('button', { name: 'boats', exact: true }).waitFor();
  const before = (await standin.counters()).counters['api.ok'];
  await page.getByRole('button', { name: /POST \/tables\/\{table\}\/rows/ }).click();
  await page.getByLabel('table', { exact: true }).fill('boats');
  await page.getByRole('button', { name: 'Send' }).click();
  const asked = page.getByRole('alertdialog');
  expect(await asked.innerText()).toMatch(/LIVE/i);
  expect((await standin.counters()).counters['api.ok']).toBe(before);
  await asked.getByRole('button', { name: 'Cancel' }).click();
  await page
    .getByLabel('Paste a curl line, or choose a HAR file')
    .fill(`curl -H 'authorization: Bearer x' '${service.url}/relay/sailings/tables/tides/rows?limit=1'`);
  await page.getByRole('button', { name: 'Read', exact: true }).click();
  await page.getByText('left out: the header authorization').waitFor();
  expect(await page.getByLabel('Path', { exact: true }).inputValue()).toBe('/tables/tides/rows?limit=1');
  await page.getByRole('button', { name: 'Copy as curl' }).click();
  await page.getByText(`'${service.url}/relay/sailings/tables/tides/rows?limit=1'`).waitFor();
});

test('a connection\u2019s page shows who uses it and what is left of the quota; labels are changed there; all of it by keyboard, every control named', async () => {
  await fetch(`${service.url}/relay/sailings/tables`, {
    headers: { authorization: `Bearer ${(await call('showCaller', { params: { caller: 'board' } })).caller_id}.wrong` },
  });
  await go('#/connections/sailings/used-by', 'Used by');
  await page.getByRole('cell', { name: 'tokens and relay, GET, /tables/**', exact: true }).waitFor();
  await page.getByRole('cell', { name: /100000 calls an hour/ }).waitFor();
  await tab('Overview');
  await page.getByRole('button', { name: 'Change labels' }).click();
  await page.getByLabel('Labels, separated by spaces').fill('pier deck');
  await page.keyboard.press('Enter');
  await eventually(async () => (await call('showConnection', { params: { connection: 'sailings' } })).labels.join(' ') === 'deck pier');
  for (const hash of ['#/callers/board', '#/callers/board/keys', '#/connections/sailings/test-call', '#/connections/sailings', '#/callers']) {
    await page.evaluate((to) => location.assign(to), hash);
    await page.waitForTimeout(600);
    const unnamed = await page.evaluate(() =>
      [...document.querySelectorAll('button, input, select, textarea, a[href]')]
        .filter((one) => one.checkVisibility())
        .filter((one) => {
          const control = one as HTMLInputElement;
          return !(one.textContent?.trim() || one.getAttribute('aria-label') || control.labels?.length || one.getAttribute('title'));
        })
        .map((one) => one.outerHTML.slice(0, 120)),
    );
    expect([hash, unnamed]).toEqual([hash, []]);
  }
});
