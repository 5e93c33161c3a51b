import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { ApiClient } from '../src/api/client.ts';
import type { BodyOf } from '../src/api/operations.ts';
import { OperatorBrowser } from '../testing/operator-browser.ts';
import { ROOT, type Running, start } from './processes.ts';
import { DEMO_OPERATOR, DEMO_PASSWORD, type Harbour } from './stage.ts';

interface MadeCaller {
  caller_id: string;
  key: string;
}

/** A caller of the demo with its key, made once for a folder. */
/** A caller of the demo, made once; its key is kept in the demo's folder. */
export async function keptCaller(harbour: Harbour, name: string, make: () => Promise<MadeCaller>): Promise<MadeCaller> {
  const file = join(harbour.folder, `caller-${name}.json`);
  if (existsSync(file)) return JSON.parse(readFileSync(file, 'utf8')) as MadeCaller;
  const { caller_id, key } = await make();
  writeFileSync(file, JSON.stringify({ caller_id, key }), { mode: 0o600 });
  return { caller_id, key };
}

const label = async (call: ApiClient, connection: string, labels: string[]): Promise<void> => {
  const { revision } = await call('showConnection', { params: { connection } });
  await call('changeConnection', { params: { connection }, body: { revision, labels } });
};

/** How the connections reach the integrations: labels, what callers may, saved calls. Wants the other providers to be there. Done once. */
export async function seedTools(call: ApiClient): Promise<void> {
  for (const [name, labels] of [
    ['ledger', ['office']],
    ['ledger-by-secret', ['office']],
    ['parcels', ['office', 'quay']],
    ['harbour-report', ['quay']],
    ['announcements', ['deck']],
  ] as const)
    await label(call, name, [...labels]);
  const save = (connection: string, body: BodyOf<'saveCall'>) => call('saveCall', { params: { connection }, body });
  await save('sailings', {
    name: 'rows-of-a-table',
    says: 'The first rows of any table',
    call: { path: '/tables/{table}/rows', query: [{ name: 'limit', value: '{how_many}' }] },
    parameters: [
      { name: 'table', says: 'sailings, boats or tides' },
      { name: 'how_many', says: '50 at most', value: '5' },
    ],
  });
  await save('parcels', {
    name: 'book-a-parcel',
    says: 'Costs money each time',
    call: { method: 'POST', path: '/parcels', headers: [{ name: 'content-type', value: 'application/json' }], body: '{"account":"{account}","to":"{to}"}' },
    parameters: [{ name: 'to', says: 'Where it goes' }],
  });
}

const TOOL_PORT = 7431;

/** The caller through which the announcer comes, and the relay's callers; made once. */
const callers = {
  ledger: (harbour: Harbour, call: ApiClient) =>
    keptCaller(harbour, 'nightly-ledger', async () => {
      const made = await call('addCaller', { body: { name: 'nightly-ledger', title: 'Posts the day\u2019s fares' } });
      const permit = (body: object) => call('permitCaller', { params: { caller: 'nightly-ledger' }, body: { use: 'relay', ...body } });
      for (const connection of ['ledger', 'ledger-by-secret']) await permit({ connection, methods: ['GET', 'POST'], paths: ['/postings', '/accounts'] });
      await permit({ connection: 'parcels', methods: ['GET'] });
      return made;
    }),
  announcer: (harbour: Harbour, call: ApiClient) =>
    keptCaller(harbour, 'deck-announcer', async () => {
      const redirect_uris = ['http://127.0.0.1/signed-in'];
      const made = await call('addCaller', { body: { name: 'deck-announcer', title: 'Deck announcer', redirect_uris } });
      await call('permitCaller', { params: { caller: 'deck-announcer' }, body: { label: 'deck', use: 'token' } });
      return made;
    }),
};

/** The posting job, run once by secret and once by certificate, through the relay; what it printed. */
export async function postTwice(harbour: Harbour, call: ApiClient): Promise<string[]> {
  const made = await callers.ledger(harbour, call);
  const lines: string[] = [];
  for (const name of ['ledger-by-secret', 'ledger']) {
    const settings = { RELAY_URL: `${harbour.url}/relay/${name}`, CALLER_ID: made.caller_id, CALLER_KEY: made.key };
    const job = start(`${ROOT}examples/nightly-ledger.mjs`, [], settings);
    await new Promise((resolve) => job.child.once('close', resolve));
    lines.push(`${name === 'ledger' ? 'by certificate' : 'by secret'}: ${job.output().trim()}`);
  }
  return lines;
}

const BURST = 60;

/** Sixty calls at once through the relay, where the provider takes 45 a minute: the rest wait, and the provider never rejects one. */
export async function feelLimit(harbour: Harbour, call: ApiClient): Promise<string> {
  const { caller_id, key } = await callers.ledger(harbour, call);
  const answers = await Promise.all(
    Array.from({ length: BURST }, () =>
      fetch(`${harbour.url}/relay/parcels/parcels?limit=1`, { headers: { authorization: `Bearer ${caller_id}.${key}` }, signal: AbortSignal.timeout(30_000) }),
    ),
  );
  const waits = answers.filter((answer) => answer.status === 429);
  const good = answers.filter((answer) => answer.ok).length;
  const { counters } = (await (await fetch(`${harbour.others.wharfpost}/standin/counters`)).json()) as { counters: Record<string, number> };
  const told = waits.length > 0 ? `, ${waits.length} told to wait ${waits[0]?.headers.get('retry-after')} s` : '';
  return `${BURST} calls to Wharfpost at once: ${good} answered${told}; Wharfpost itself rejected ${counters['api.over_quota'] ?? 0}`;
}

/** deck-announcer, which only knows "sign in": where it opens a browser, the demo's operator answers the sign-in request. */
export async function startAnnouncer(harbour: Harbour, call: ApiClient, onLine: (line: string) => void, every = '5000'): Promise<Running> {
  const { caller_id, key } = await callers.announcer(harbour, call);
  const settings = {
    AUTHORIZATION_URL: `${harbour.url}/oauth/authorize`,
    TOKEN_URL: `${harbour.url}/oauth/token`,
    CLIENT_ID: caller_id,
    CLIENT_SECRET: key,
    API_URL: `${harbour.others.deckhail}/1/announcements`,
    PORT: String(TOOL_PORT),
    KEEP: join(harbour.folder, 'deck-announcer-keeps.json'),
    EVERY_MS: every,
  };
  return start(`${ROOT}examples/deck-announcer.mjs`, [], settings, (line) => {
    if (!line.startsWith('open ')) return onLine(line);
    void answerSignInRequest(harbour, line.slice('open '.length)).catch((error: unknown) =>
      onLine(`FAILED at sign-in: ${error instanceof Error ? error.message : String(error)}`),
    );
  });
}

/** What the person does: sign in, choose the connection, and let the browser go back to the tool. */
async function answerSignInRequest(harbour: Harbour, address: string): Promise<void> {
  const browser = await new OperatorBrowser(harbour.url).signIn(DEMO_OPERATOR, DEMO_PASSWORD);
  const back = await browser.answerSignIn(address, 'announcements');
  await (await fetch(back, { signal: AbortSignal.timeout(10_000) })).text();
}
