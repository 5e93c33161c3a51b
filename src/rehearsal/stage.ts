import { readFileSync } from 'node:fs';
import { createServer } from 'node:http';
import { text } from 'node:stream/consumers';
import { type ApiClient, apiClient } from '../api/client.ts';
import type { RehearsalPlan } from '../api/rehearsals.ts';
import { readDefinition } from '../core/provider/read-definition.ts';
import { DEFAULT_LANES } from '../core/renewal/lanes.ts';
import { DEFAULT_LIMITS } from '../core/renewal/limits.ts';
import { type RunningService, startService } from '../service/main.ts';
import type { Settings } from '../service/settings.ts';
import { type RunningStandin, startStandin } from '../standins/main.ts';
import { type RehearsedClock, rehearsedClock } from './clock.ts';

/** What a rehearsal plays on: a service of its own over a scratch database, simulated providers, and one who notes what is sent. */
export interface Stage {
  clock: RehearsedClock;
  url: string;
  call: ApiClient;
  /** By the provider's name. */
  standins: ReadonlyMap<string, RunningStandin>;
  /** Providers that cannot be simulated. */
  leftOut: RehearsalPlan['leftOut'];
  /** Where channels send to, and what they sent. */
  mailboxUrl: string;
  sent: { at: number; channel: string; event: string; notice: string }[];
  /** Moves the time to an instant and waits until everything that became due is done. */
  moveTo(at: number): Promise<void>;
  stop(): Promise<void>;
}

const DAY_MS = 86_400_000;
const OPERATOR = 'rehearsal';
/** A session of a program lasts 30 days. */
const SIGN_IN_EVERY_MS = 20 * DAY_MS;
/** Rounds in which due work may end; what is still due then waits for something that does not come. */
const MAX_ROUNDS = 120;
/** What is rejected is asked once more after half a minute; a cause has to stand for a minute before it is a notice. */
const NOTICE_LOOKS_MS = [4_000, 31_000, 14_000, 62_000, 4_000];
const NEVER_MS = 400 * DAY_MS;

export async function openStage(plan: RehearsalPlan, { folder, port, startAt, password }: StageOptions): Promise<Stage> {
  const clock = rehearsedClock(startAt);
  const standins = new Map<string, RunningStandin>();
  const sent: Stage['sent'] = [];
  const leftOut: Stage['leftOut'] = [];
  let service: RunningService | null = null;
  const mailbox = createServer((request, response) => {
    void text(request).then((body) => {
      const channel = (request.url ?? '').split('/').at(-1) ?? '';
      sent.push({ at: clock.now(), channel: decodeURIComponent(channel), ...eventOf(body) });
      response.writeHead(204).end();
    });
  });
  await new Promise<void>((resolve) => mailbox.listen(0, '127.0.0.1', resolve));
  const address = mailbox.address();
  const stop = async (): Promise<void> => {
    await service?.stop();
    await Promise.all([...standins.values()].map((one) => one.stop()));
    mailbox.closeAllConnections();
    await new Promise((resolve) => mailbox.close(resolve));
  };
  try {
    for (const { name, document } of plan.providers) {
      const running = await startStandin({ definitionText: document, port: 0, now: clock.now });
      standins.set(name, running);
      const foreign = foreignAddress(running);
      if (foreign === null) continue;
      await running.stop();
      standins.delete(name);
      leftOut.push({ what: `Provider ${name}`, why: `Its definition names ${foreign}, which cannot be simulated. Nothing real is called.` });
    }
    service = await startService(settingsFor(folder, port), {
      time: clock,
      send: (send) => (request) => clock.during(send(request)),
    });
    const { publicUrl: url, isBusy, firstOperatorFile } = service;
    const call = await signedIn(url, firstOperatorFile, { clock, password });
    const settle = async (): Promise<void> => {
      for (let round = 0; round < MAX_ROUNDS; round += 1) {
        await clock.quiet();
        if (!(await isBusy())) return;
        clock.moveTo(clock.nextWake() ?? clock.now() + 1_000);
      }
    };
    return {
      clock,
      url,
      call,
      standins,
      leftOut,
      sent,
      mailboxUrl: `http://127.0.0.1:${address && typeof address === 'object' ? address.port : 0}`,
      async moveTo(at) {
        clock.moveTo(at);
        await settle();
        for (const ms of NOTICE_LOOKS_MS) {
          clock.moveTo(clock.now() + ms);
          await settle();
        }
      },
      stop,
    };
  } catch (error) {
    await stop();
    throw error;
  }
}

/** An address of a simulated provider's definition that leads elsewhere, such as to a real server on this machine; null: none does. */
function foreignAddress({ definitionText, port }: RunningStandin): string | null {
  const { server, identity, apis, dialect } = readDefinition(definitionText);
  const addresses = JSON.stringify([server, identity, apis, dialect]).match(/https?:\/\/[^"\\\s/?#]+/g) ?? [];
  return addresses.find((address) => !new RegExp(`^http://(127\\.0\\.0\\.1|[a-z0-9.{}_-]+\\.localhost):${port}$`).test(address)) ?? null;
}

export interface StageOptions {
  folder: string;
  port: number;
  startAt: number;
  /** Of the one operator of the scratch service. */
  password: string;
}

/** As the service runs alone, but for what depends on time that jumps: nobody is silent, and nobody is cut off. */
const settingsFor = (folder: string, port: number): Settings => ({
  ...{
    dataFolder: folder,
    databaseUrl: null,
    databaseNodes: [],
    masterKey: null,
    masterKeyCommand: null,
    masterKeyShares: [],
    formerMasterKey: null,
    host: '127.0.0.1',
    port,
    processes: 1,
    isFirstProcess: true,
    publicUrl: `http://127.0.0.1:${port}`,
  },
  ...{
    publicUrlIsDefault: true,
    privateHosts: ['*.localhost', '127.0.0.1'],
    trustedProxies: 0,
    tls: null,
    certificateHeader: null,
    poolSize: 8,
    logLevel: 'error',
  },
  ...{ concurrency: 64, originConcurrency: DEFAULT_LANES.originMost, clientConcurrency: DEFAULT_LANES.clientMost },
  ...{
    blindLimitMs: NEVER_MS,
    approvalCheckMs: 3_600_000,
    verifyRenewal: false,
    bodyMs: 30_000,
    historyMs: NEVER_MS,
    answers: { keptMs: NEVER_MS, bytesMost: 1_000_000_000 },
    noticeSettleMs: 60_000,
  },
  ...{
    outputFolder: null,
    metricsToken: null,
    activityFile: null,
    tracesUrl: null,
    scriptsFolder: null,
    mail: null,
    proxy: null,
    rescue: null,
    backupFolder: null,
    bundleFolder: null,
  },
  ...{ relayWaitMs: 60_000, relayMostMs: 900_000 },
  limits: { ...DEFAULT_LIMITS, silentMs: NEVER_MS },
});

/** A client that signs in again before its session ends. */
async function signedIn(url: string, ticketFile: string | null, { clock, password }: { clock: RehearsedClock; password: string }): Promise<ApiClient> {
  const anonymous = apiClient({ baseUrl: url });
  const ticket = ticketFile === null ? '' : (readFileSync(ticketFile, 'utf8').trim().split('/').at(-1) ?? '');
  await anonymous('addFirstOperator', { body: { ticket, name: OPERATOR, password } });
  let session: { at: number; call: ApiClient } | null = null;
  return (async (name: never, ...input: never[]) => {
    if (session === null || clock.now() - session.at > SIGN_IN_EVERY_MS) {
      const { token } = await anonymous('signIn', { body: { name: OPERATOR, password, keeps: 'token' } });
      session = { at: clock.now(), call: apiClient({ baseUrl: url, token: token ?? '' }) };
    }
    return (session.call as (name: never, ...input: never[]) => Promise<unknown>)(name, ...input);
  }) as ApiClient;
}

/** What a channel's event says: which notice, and what became of it. */
function eventOf(body: string): { event: string; notice: string } {
  const { type, data } = JSON.parse(body) as { type: string; data: { notice: string } };
  return { event: type.replace(/^notice\./, ''), notice: data.notice };
}
