import { existsSync, mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { createConnection } from 'node:net';
import { homedir } from 'node:os';
import { join } from 'node:path';
import { type ApiClient, apiClient } from '../src/api/client.ts';
import { registerAtStandin } from '../src/standins/visitor.ts';
import { ROOT, type Running, startRk, untilReady } from './processes.ts';
import { seedOthers } from './providers.ts';
import { agree, DEMO_OPERATOR, DEMO_PASSWORD, type Harbour } from './stage.ts';

const MARK = 'this-is-a-rusty-kettle-demo';

export const demoFolder = (): string =>
  process.getuid?.() === 0 ? '/var/lib/rusty-kettle-demo' : join(process.env.XDG_DATA_HOME ?? join(homedir(), '.local', 'share'), 'rusty-kettle-demo');

/** Empties a folder that an earlier demo made; never another. */
export function emptyDemoFolder(folder: string): void {
  if (!existsSync(folder)) return;
  if (!existsSync(join(folder, MARK))) throw new Error(`${folder} was not made by the demo; it is not touched`);
  rmSync(folder, { recursive: true, force: true });
}

/** The providers beside Eelgrass and Berthline. */
export const OTHERS = ['ledgerfin', 'wharfpost', 'notchboard', 'piermaster', 'bosunry', 'oakum', 'deckhail'] as const;

/** Starts the stand-ins and the service over one folder. */
export async function openHarbour(options: {
  folder: string;
  port: number;
  standinPort: number;
  berthlinePort: number;
  /** Ports of further stand-ins by the provider's name. */
  otherPorts: Record<string, number>;
  lifeSeconds: number;
  environment?: Record<string, string>;
}): Promise<Harbour> {
  const { folder } = options;
  const { berthlinePort } = options;
  for (const port of [options.port, options.standinPort, berthlinePort, ...Object.values(options.otherPorts)])
    if (await isTaken(port)) throw new Error(`port ${port} is taken. Is the demo running already, in another terminal?`);
  mkdirSync(folder, { recursive: true, mode: 0o711 });
  writeFileSync(join(folder, MARK), '');
  const url = `http://127.0.0.1:${options.port}`;
  const outputFolder = join(folder, 'results');
  mkdirSync(outputFolder, { recursive: true });
  const standinUrl = `http://id.eelgrass.localhost:${options.standinPort}`;
  const standinOf = (provider: string, port: number): Running =>
    startRk(
      [
        'standin',
        join(ROOT, `definitions/${provider}.yaml`),
        '--port',
        String(port),
        '--state',
        join(folder, `${provider}.json`),
        '--token-lifetime',
        String(options.lifeSeconds),
      ],
      {},
    );
  const standin = standinOf('eelgrass', options.standinPort);
  const berthline = standinOf('berthline', berthlinePort);
  const others = Object.entries(options.otherPorts).map(([provider, port]) => ({ provider, port, running: standinOf(provider, port) }));
  let service: Running | null = null;
  const stop = async () => {
    await service?.stop();
    await Promise.all([standin, berthline, ...others.map((one) => one.running)].map((one) => one.stop()));
  };
  try {
    await untilReady(`http://127.0.0.1:${options.standinPort}/definition.yaml`, standin);
    await untilReady(`http://127.0.0.1:${berthlinePort}/definition.yaml`, berthline);
    for (const { port, running } of others) await untilReady(`http://127.0.0.1:${port}/definition.yaml`, running);
    const environment = {
      RUSTY_KETTLE_DATA_FOLDER: join(folder, 'service'),
      RUSTY_KETTLE_PORT: String(options.port),
      RUSTY_KETTLE_PRIVATE_HOSTS: '*.localhost, 127.0.0.1',
      RUSTY_KETTLE_APPROVAL_CHECK_SECONDS: '10',
      RUSTY_KETTLE_OUTPUT_FOLDER: outputFolder,
      ...options.environment,
    };
    service = startRk(['serve'], environment);
    await untilReady(`${url}/readyz`, service);
    const definitionFile = join(folder, 'eelgrass.yaml');
    writeFileSync(definitionFile, await (await fetch(`http://127.0.0.1:${options.standinPort}/definition.yaml`)).text());
    return {
      folder,
      url,
      standinUrl,
      berthlineUrl: `http://id.north.berthline.localhost:${berthlinePort}`,
      others: Object.fromEntries(others.map(({ provider, port }) => [provider, `http://127.0.0.1:${port}`])),
      definitionFile,
      environment,
      stop,
    };
  } catch (error) {
    await stop();
    throw error;
  }
}

const isTaken = (port: number): Promise<boolean> =>
  new Promise((resolve) => {
    const socket = createConnection({ host: '127.0.0.1', port });
    const end = (taken: boolean) => {
      socket.destroy();
      resolve(taken);
    };
    socket.once('connect', () => end(true));
    socket.once('error', () => end(false));
  });

/** Makes the demo's operator with the one-time ticket, where there is none yet. */
export async function ensureOperator(harbour: Harbour): Promise<ApiClient> {
  const anonymous = apiClient({ baseUrl: harbour.url });
  if ((await anonymous('firstOperatorState')).needed) {
    const ticket =
      readFileSync(join(harbour.folder, 'service', 'first-operator.link'), 'utf8')
        .trim()
        .split('/')
        .at(-1) ?? '';
    await anonymous('addFirstOperator', { body: { ticket, name: DEMO_OPERATOR, password: DEMO_PASSWORD } });
  }
  const { token } = await anonymous('signIn', { body: { name: DEMO_OPERATOR, password: DEMO_PASSWORD, keeps: 'token' } });
  return apiClient({ baseUrl: harbour.url, token: token ?? '' });
}

export interface IntegrationSettings {
  TOKEN_URL: string;
  CLIENT_ID: string;
  CLIENT_SECRET: string;
  API_URL: string;
}

/** Berthline, strict about refresh tokens, with a client in its northern region; the harbour desk agrees. Its secret. */
export async function seedBerthline(harbour: Harbour, call: ApiClient, connections: string[]): Promise<string> {
  const document = await (await fetch(`http://127.0.0.1:${new URL(harbour.berthlineUrl).port}/definition.yaml`)).text();
  await call('addProvider', { body: { document } });
  const made = { provider: 'berthline', name: 'harbour', title: 'Harbour desk', environment: 'live' as const, placeholders: { region: 'north' } };
  const draft = await call('addClient', { body: made });
  const registered = await registerAtStandin(harbour.berthlineUrl, 'Saltmarsh Ferries harbour desk', draft.redirect_uri);
  const params = { provider: 'berthline', client: 'harbour' };
  await call('changeClient', { params, body: { revision: draft.revision, client_id: registered.id } });
  await call('addSecret', { params, body: { secret: registered.secret } });
  for (const name of connections) {
    await call('addConnection', { body: { name, provider: 'berthline', client: 'harbour', scopes: ['bookings.read', 'profile'] } });
    await agree(call, name, 'eg-1077');
  }
  return registered.secret;
}

const SECRET_DAYS = 24;
/** Saltmarsh Ferries, all through the API; the consent is played over HTTP as a browser would. Done once for a folder. */
export async function seed(harbour: Harbour, call: ApiClient): Promise<IntegrationSettings> {
  const kept = join(harbour.folder, 'timetable-board.json');
  if (existsSync(kept)) return JSON.parse(readFileSync(kept, 'utf8')) as IntegrationSettings;
  await call('addProvider', { body: { document: readFileSync(harbour.definitionFile, 'utf8') } });
  await seedBerthline(harbour, call, ['berths']);
  await seedOthers(harbour, call);
  const draft = await call('addClient', { body: { provider: 'eelgrass', name: 'timetable', title: 'Timetable office', environment: 'live' } });
  const registered = await registerAtStandin(harbour.standinUrl, 'Saltmarsh Ferries timetable', draft.redirect_uri);
  const params = { provider: 'eelgrass', client: 'timetable' };
  await call('changeClient', { params, body: { revision: draft.revision, client_id: registered.id } });
  // As the provider's page shows it: it comes up soon.
  await call('addSecret', { params, body: { secret: registered.secret, ends_at: new Date(Date.now() + SECRET_DAYS * 86_400_000).toISOString() } });
  await call('addConnection', {
    body: {
      name: 'sailings',
      provider: 'eelgrass',
      client: 'timetable',
      scopes: ['tables.read', 'calendars.read', 'profile', 'offline_access'],
      expected_account: 'marit.holm@saltmarsh.example',
    },
  });
  await agree(call, 'sailings', 'eg-1042');
  const { seedConsents } = await import('./consents.ts');
  await seedConsents(harbour, call);
  const { seedTools } = await import('./tools.ts');
  await seedTools(call);
  const { seedJobs } = await import('./jobs.ts');
  await seedJobs(call);
  const { seedPeople } = await import('./people.ts');
  await seedPeople(harbour, call);
  const made = await call('addCaller', { body: { name: 'timetable-board', title: 'The board at the pier', connections: ['sailings'] } });
  const settings = {
    TOKEN_URL: made.token_url,
    CLIENT_ID: made.caller_id,
    CLIENT_SECRET: made.key,
    API_URL: `http://127.0.0.1:${new URL(harbour.standinUrl).port}/v1/tables/sailings/rows?limit=2`,
  };
  writeFileSync(kept, JSON.stringify(settings), { mode: 0o600 });
  return settings;
}
