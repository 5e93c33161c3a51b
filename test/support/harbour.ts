import { readFileSync } from 'node:fs';
import type { ApiClient } from '../../src/api/client.ts';
import type { ConsentOutcome } from '../../src/api/connections.ts';
import { type RunningStandin, startStandin } from '../../src/standins/main.ts';
import { Browser, type PlayedConsent, type PlayOptions, playOpened, registerAtStandin } from '../../src/standins/visitor.ts';
import { eventually } from '../../testing/waiting.ts';

export const SCOPES = ['tables.read', 'calendars.read', 'profile', 'offline_access'];

export interface StandinUnderTest extends RunningStandin {
  origin: string;
  order(path: string, body: object): Promise<void>;
  clearFaults(): Promise<void>;
  counters(): Promise<{ counters: Record<string, number>; refreshes: { account: string; refreshes: number; withdrawn: boolean }[] }>;
}

/** Eelgrass, with lives of a few seconds. */
export const startEelgrass = (accessSeconds = 4, change: (text: string) => string = (text) => text): Promise<StandinUnderTest> =>
  startUnderTest('eelgrass', accessSeconds, change);

/** Berthline, strict about reuse, in two regions; its origin is that of the north. */
export const startBerthline = (accessSeconds = 4, change: (text: string) => string = (text) => text): Promise<StandinUnderTest> =>
  startUnderTest('berthline', accessSeconds, change);

/** Where a provider's clients are registered. */
const PAGES: Record<string, string> = {
  eelgrass: 'id.eelgrass.localhost',
  berthline: 'id.north.berthline.localhost',
  ledgerfin: 'id.ledgerfin.localhost',
  wharfpost: 'auth.wharfpost.localhost',
  notchboard: 'notchboard.localhost',
  piermaster: 'id.piermaster.localhost',
  bosunry: 'dev.bosunry.localhost',
  oakum: 'registry.oakum.localhost',
  deckhail: 'id.deckhail.localhost',
};

/** Any of the stand-ins that ship, with lives of a few seconds; `change` edits its definition first. */
export async function startUnderTest(provider: string, accessSeconds = 4, change: (text: string) => string = (text) => text): Promise<StandinUnderTest> {
  const definitionText = change(readFileSync(new URL(`../../definitions/${provider}.yaml`, import.meta.url), 'utf8'));
  const standin = await startStandin({ definitionText, port: 0, accessSeconds });
  const at = `http://127.0.0.1:${standin.port}/standin`;
  const call = async (method: string, path: string, body?: object) => {
    const response = await fetch(`${at}/${path}`, { method, ...(body ? { body: JSON.stringify(body), headers: { 'content-type': 'application/json' } } : {}) });
    if (!response.ok) throw new Error(`the stand-in rejected the order: ${await response.text()}`);
    return response.json();
  };
  return {
    ...standin,
    origin: `http://${PAGES[provider]}:${standin.port}`,
    order: async (path, body) => void (await call('POST', path, body)),
    clearFaults: async () => void (await call('DELETE', 'faults')),
    counters: async () => (await call('GET', 'counters')) as never,
  };
}

/** Provider, registered client with its secret: ready for connections. */
export async function addEelgrass(call: ApiClient, standin: StandinUnderTest, client = 'timetable'): Promise<{ id: string; secret: string }> {
  await call('addProvider', { body: { document: standin.definitionText } });
  return addClient(call, standin, client);
}

export async function addClient(
  call: ApiClient,
  standin: StandinUnderTest,
  client: string,
  of: { provider: string; type?: 'service_account' | 'desktop' | 'web' | 'printed_code'; placeholders?: Record<string, string>; environment?: 'sandbox' } = {
    provider: 'eelgrass',
  },
): Promise<{ id: string; secret: string }> {
  const { provider } = of;
  const draft = await call('addClient', { body: { ...of, name: client } });
  const page = draft.registration_page ?? `${standin.origin}/clients`;
  const registered = await registerAtStandin(page, 'Saltmarsh Ferries', draft.redirect_uri);
  const params = { provider, client };
  await call('changeClient', { params, body: { revision: draft.revision, client_id: registered.id } });
  await call('addSecret', { params, body: { secret: registered.secret } });
  return registered;
}

export const addConnection = (call: ApiClient, name: string, scopes = SCOPES, client = 'timetable', provider = 'eelgrass') =>
  call('addConnection', { body: { name, provider, client, scopes } });

/** Opens a connection and plays the consent; the outcome once it is finished. */
export async function agree(
  call: ApiClient,
  name: string,
  options: PlayOptions = {},
  browser = new Browser(),
  body: { end_oldest?: boolean } = {},
): Promise<{ outcome: ConsentOutcome; played: PlayedConsent }> {
  const opened = await call('openConnection', { params: { connection: name }, body });
  const played = await playOpened(opened, (consent, pasted) => call('answerConsent', { params: { consent }, body: { pasted } }), options, browser);
  const outcome = await eventually(async () => {
    const seen = await call('showConsent', { params: { consent: opened.id } });
    return seen.phase === 'done' || seen.phase === 'failed' ? seen : null;
  });
  return { outcome, played };
}

/** A token request as any tool would send it. */
export async function fetchToken(
  url: string,
  id: string,
  key: string,
  resource?: string,
): Promise<{ status: number; headers: Headers; body: Record<string, string | number> }> {
  const response = await fetch(`${url}/oauth/token`, {
    method: 'POST',
    headers: { authorization: `Basic ${Buffer.from(`${id}:${key}`).toString('base64')}` },
    body: new URLSearchParams({ grant_type: 'client_credentials', ...(resource ? { resource } : {}) }),
  });
  return { status: response.status, headers: response.headers, body: (await response.json()) as never };
}
