import type { ApiClient } from '../../src/api/client.ts';
import type { ConsentOutcome } from '../../src/api/connections.ts';
import type { Diagnosis } from '../../src/api/diagnosis.ts';
import type { BodyOf } from '../../src/api/operations.ts';
import { type PlayOptions, playOpened, registerAtStandin } from '../../src/standins/visitor.ts';
import { makeCertificate } from '../../testing/certificate.ts';
import { removeFolder, type ServiceUnderTest, signIn, startService } from '../../testing/service.ts';
import { eventually } from '../../testing/waiting.ts';
import { type StandinUnderTest, startUnderTest } from '../support/harbour.ts';
import { newDatabase } from '../support/new-database.ts';

/** Everything that goes wrong with a consent, a renewal or a call, really produced by a stand-in, and what is said of it. */
const NAMES = ['eelgrass', 'berthline', 'ledgerfin', 'piermaster', 'bosunry', 'notchboard', 'oakum', 'deckhail', 'wharfpost'] as const;
export type Name = (typeof NAMES)[number];
export const at = {} as Record<Name, StandinUnderTest>;
export let [call, databaseUrl] = [] as unknown as [ApiClient, string];
let service: ServiceUnderTest;
let count = 0;
export const seenCauses = new Map<string, number>();

export interface Made {
  name: string;
  provider: Name;
  client: string;
  id: string;
  secret: string;
}
export interface MakeOptions {
  scopes?: string[];
  type?: 'service_account' | 'printed_code' | 'desktop';
  placeholders?: Record<string, string>;
  /** Values of the connection. */
  own?: Record<string, string>;
  grantType?: 'jwt_bearer';
  account?: string;
  unlisted?: boolean;
  /** Registered at another place than the client says. */
  registerAt?: string;
  certificate?: string;
  approval?: 'requested';
  listed?: string;
}

/** A client of its own, registered at the stand-in with everything opened, and a connection through it. */
export async function make(provider: Name, scopes: string[], options: MakeOptions = {}): Promise<Made> {
  count += 1;
  const client = `c${count}`;
  const { type, placeholders } = options;
  const draft = await call('addClient', { body: { provider, name: client, ...(type && { type }), ...(placeholders && { placeholders }) } });
  const page = options.registerAt ?? draft.registration_page ?? at[provider].origin;
  const { listed, approval } = options;
  const there = await registerAtStandin(page, client, draft.redirect_uri, {
    certificate: options.certificate ?? '',
    ...(listed && { listed }),
    ...(approval && { approval }),
  });
  const params = { provider, client };
  await call('changeClient', { params, body: { revision: draft.revision, client_id: there.id } });
  if (options.certificate !== undefined || options.grantType === 'jwt_bearer') {
    const { revision } = await call('showClient', { params });
    await call('changeClient', { params, body: { revision, method: 'private_key_jwt' } });
  } else await call('addSecret', { params, body: { secret: there.secret } });
  const body: BodyOf<'addConnection'> = {
    name: `k${count}`,
    provider,
    client,
    scopes,
    expected_account: options.account ?? null,
    allow_unlisted_scopes: options.unlisted ?? false,
    ...(options.grantType && { grant_type: options.grantType }),
    ...(options.own && { placeholders: options.own }),
  };
  await call('addConnection', { body });
  return { name: body.name, provider, client, ...there };
}

export const finished = (consent: string): Promise<ConsentOutcome> =>
  eventually(async () => {
    const seen = await call('showConsent', { params: { consent } });
    return seen.phase === 'done' || seen.phase === 'failed' ? seen : null;
  }, 30_000);
export async function open(made: Made, play: PlayOptions = {}, body: BodyOf<'openConnection'> = {}): Promise<ConsentOutcome> {
  const opened = await call('openConnection', { params: { connection: made.name }, body });
  if (!opened.by_itself) await playOpened(opened, (consent, pasted) => call('answerConsent', { params: { consent }, body: { pasted } }), play);
  return finished(opened.id);
}
export const problem = async (outcome: Promise<ConsentOutcome>) => (await outcome).problem?.diagnosis;
export const ofFirstCall = async (outcome: Promise<ConsentOutcome>) => (await outcome).first_call?.diagnosis;
export const show = (made: Made) => call('showConnection', { params: { connection: made.name } });
export const callIt = async (made: Made, path: string) => (await call('callConnection', { params: { connection: made.name }, body: { path } })).diagnosis;
/** Opens, is stopped on a page of the provider, and pastes what stands there. */
export async function stopped(made: Made, play: PlayOptions = {}): Promise<Diagnosis | null | undefined> {
  const opened = await call('openConnection', { params: { connection: made.name } });
  const played = await playOpened(opened, () => Promise.reject(new Error('it was not stopped')), play);
  const words = played.body
    .replace(/<style>[\s\S]*?<\/style>/, '')
    .replace(/<[^>]+>/g, ' ')
    .trim();
  return (await call('explainPage', { params: { consent: opened.id }, body: { page: words } })).page_diagnosis;
}
export const standinClient = (made: Made) => {
  const found = at[made.provider].store.state.clients[made.id];
  if (!found) throw new Error('the stand-in does not know the client');
  return found;
};
export const wrongSecret = (made: Made, secret: string) =>
  call('addSecret', { params: { provider: made.provider, client: made.client }, body: { secret, at_once: true, take_as_is: true } });
export async function printed(made: Made): Promise<string> {
  const response = await fetch(`http://127.0.0.1:${at.piermaster.port}/standin/printed-codes`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ client_id: made.id, account: 'eg-1042' }),
  });
  return ((await response.json()) as { code: string }).code;
}
export async function give(made: Made, code: string): Promise<ConsentOutcome> {
  const opened = await call('openConnection', { params: { connection: made.name } });
  await call('giveCode', { params: { consent: opened.id }, body: { code } });
  return finished(opened.id);
}
/** A provider whose definition here differs from what its stand-in does. */
export async function edited(provider: Name, name: string, change: (text: string) => string): Promise<string> {
  await call('addProvider', { body: { document: change(at[provider].definitionText).replace(/^name: .*$/m, `name: ${name}`) } });
  return name;
}
export const BASIC = ['tables.read', 'profile', 'offline_access'];
export const NOTCH = ['read', 'keep'];
export const ROSTERS = ['rosters:read', 'whoami', 'offline_access'];
export const STAFF = { audience: 'pm:dir:staff' };
export const TENANT = { tenant: 'lf204816' };

export interface Case {
  name: string;
  cause: Diagnosis['cause'];
  verdict: Diagnosis['verdict'];
  half?: Diagnosis['half'];
  side: Diagnosis['side'];
  evidence?: RegExp;
  produce(): Promise<Diagnosis | null | undefined>;
}
/** A client of Ledgerfin whose certificate is known there. */
export async function byCertificate(scopes: string[], account?: string, days = 365): Promise<Made> {
  const certificate = await makeCertificate('books', { days });
  const options: MakeOptions = { placeholders: TENANT, certificate: certificate.certificate, ...(account && { account }) };
  const made = await make('ledgerfin', scopes, options);
  await call('addSecret', { params: { provider: 'ledgerfin', client: made.client }, body: { kind: 'certificate', secret: certificate.pem } });
  if (!account) return made;
  const name = `${made.name}-as`;
  await call('addConnection', { body: { name, provider: 'ledgerfin', client: made.client, scopes, grant_type: 'jwt_bearer', expected_account: account } });
  return { ...made, name };
}

/** Starts the service and a stand-in of each provider. */
export async function startAll(): Promise<void> {
  databaseUrl = await newDatabase();
  service = await startService({ databaseUrl, environment: { RUSTY_KETTLE_DEADLINE_MS: '7000' } }); // a starved machine is no answer lost in flight
  call = await signIn(service);
  for (const name of NAMES) {
    at[name] = await startUnderTest(name, 3600);
    await call('addProvider', { body: { document: at[name].definitionText } });
  }
}

export async function stopAll(): Promise<void> {
  process.stdout.write(`causes produced: ${[...seenCauses].map(([cause, times]) => `${cause} ${times}`).join(', ')}\n`);
  await service.stop();
  for (const standin of Object.values(at)) await standin.stop();
  removeFolder(service.folder);
}
