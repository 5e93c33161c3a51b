import { existsSync, readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { setTimeout as sleep } from 'node:timers/promises';
import { Pool } from 'undici';
import type { ApiClient } from '../../src/api/client.ts';
import { masterKey as readMasterKey } from '../../src/core/sealing/master-key.ts';
import { freePort, startPrivateMariadb } from '../../src/service/database/private-mariadb.ts';
import { spill } from '../../src/service/renewal/spill.ts';
import { idText } from '../../src/service/store/database.ts';
import { newDatabaseOn } from '../../testing/new-database-on.ts';
import { openSeeder, type Seeder } from '../../testing/seed.ts';
import { newFolder, newMasterKey, removeFolder, type ServiceUnderTest, signIn, startService } from '../../testing/service.ts';
import { testProgram } from '../../testing/test-programs.ts';
import { eventually } from '../../testing/waiting.ts';
import { KINDS, type Kind, PROVIDERS, type Provider, SENDS, startProvider, type World } from './providers.ts';

export interface SoakOptions {
  seconds: number;
  connections: number;
  lives: { least: number; most: number };
  /** The longest freeze of a replica, in seconds. */
  freezeMost: number;
  holderWaitMs: number;
  /** How long everything may take to come back afterwards, in ms. */
  settleMs: number;
  environment: Record<string, string>;
  say(text: string): void;
}

export interface SoakReport {
  issued: number;
  checked: number;
  refusals: Record<string, number>;
  /** From the first rejection of a connection to its next token, ms. */
  recoveries: { count: number; median: number; p99: number; most: number };
  faults: Record<string, number>;
  renewals: number;
  lostInFlight: Record<string, number>;
  declared: number;
  excused: number;
  /** What must be nothing. */
  expired: string[];
  held: string[];
  recoverableLost: string[];
  unsettled: string[];
}

const SKEWS_MS = [0, 4_000, -3_000];
const CALLERS = 24;
const DEADLINE_MS = 15_000;

interface Seeded {
  name: string;
  kind: Kind;
  theirs: string;
  ours: string;
}
interface Replica {
  name: string;
  folder: string;
  port: number;
  life: number;
  running: ServiceUnderTest | null;
  frozen: boolean;
}

/** A fleet under load while everything around it goes wrong; what it found when all came back. */
export async function soak(options: SoakOptions): Promise<SoakReport> {
  const folder = newFolder();
  const server = await startPrivateMariadb({ folder });
  const databaseUrl = await newDatabaseOn(server.url);
  const key = newMasterKey();
  const replicas: Replica[] = [];
  for (const name of ['a', 'b', 'c']) replicas.push({ name, folder: newFolder(), port: await freePort(), life: 0, running: null, frozen: false });
  const alive = new Set<string>();
  const killed = new Set<string>();
  const world: World = {
    lives: (sender) => alive.has(sender),
    said: ({ sender, id }) => {
      const home = replicas.find((one) => sender.startsWith(`${one.name}.`))?.folder ?? '';
      const path = join(home, SENDS);
      if (!existsSync(path)) return null;
      const line = readFileSync(path, 'utf8')
        .split('\n')
        .find((one) => one.startsWith(`${id} `));
      return line === undefined ? null : line.endsWith('got') ? 'got' : 'gone';
    },
    spills: () => replicas.map((one) => one.folder),
    ours: new Map(),
    holderWaitMs: options.holderWaitMs,
  };
  const providers = new Map<Kind, Provider>();
  for (const kind of KINDS) providers.set(kind, await startProvider(kind, world, options.lives));
  const start = async (replica: Replica): Promise<void> => {
    replica.life += 1;
    const sender = `${replica.name}.${replica.life}`;
    alive.add(sender);
    const skew = SKEWS_MS[replicas.indexOf(replica)] ?? 0;
    replica.running = await startService({
      databaseUrl,
      masterKey: key,
      folder: replica.folder,
      port: replica.port,
      publicUrl: `http://127.0.0.1:${replicas[0]?.port}`,
      run: [...testProgram('soaked'), sender, String(skew)],
      environment: { RUSTY_KETTLE_LOG_LEVEL: 'warn', ...options.environment },
    });
  };
  const kill = async (replica: Replica): Promise<void> => {
    await replica.running?.kill();
    alive.delete(`${replica.name}.${replica.life}`);
    killed.add(`${replica.name}.${replica.life}`);
    [replica.running, replica.frozen] = [null, false];
  };
  let seeder: Seeder | null = null;
  try {
    await start(replicas[0] as Replica);
    const call = await signIn(replicas[0]?.running as ServiceUnderTest);
    for (const replica of replicas.slice(1)) await start(replica);
    const caller = await setUp(call, providers);
    seeder = await openSeeder(databaseUrl, key);
    const seeded = await seed(seeder, providers, options.connections, world);
    await call('changeCaller', { params: { caller: 'soak' }, body: { title: 'soak' } }); // hears of the new connections
    const report = await play({ options, replicas, providers, seeded, caller, databaseFolder: folder, start, kill });
    for (const replica of replicas) await replica.running?.stop(); // what they hold is saved; what is left in a folder then is evidence
    await judge(report, { world, killed, seeder, providers, seeded, replicas, key });
    return report;
  } finally {
    await seeder?.close().catch(() => undefined);
    for (const replica of replicas) {
      replica.running?.process.kill('SIGCONT');
      await replica.running?.kill();
    }
    for (const provider of providers.values()) await provider.standin.stop();
    await server.stop();
    for (const one of [folder, ...replicas.map((replica) => replica.folder)]) removeFolder(one);
  }
}

/** Providers, clients and one caller, through the API. */
async function setUp(call: ApiClient, providers: Map<Kind, Provider>): Promise<{ id: string; key: string }> {
  for (const { kind, standin, clientId, secret } of providers.values()) {
    const { provider, placeholders } = PROVIDERS[kind];
    await call('addProvider', { body: { document: standin.definitionText } });
    const draft = await call('addClient', { body: { provider, name: 'soak', placeholders } });
    const params = { provider, client: 'soak' };
    await call('changeClient', { params, body: { revision: draft.revision, client_id: clientId } });
    await call('addSecret', { params, body: { secret } });
  }
  const caller = await call('addCaller', { body: { name: 'soak', connections: [] } });
  return { id: caller.caller_id, key: caller.key };
}

async function seed(seeder: Seeder, providers: Map<Kind, Provider>, count: number, world: World): Promise<Seeded[]> {
  const all: Seeded[] = [];
  for (const provider of providers.values()) {
    const given = Array.from({ length: Math.floor(count / providers.size) }, (_one, n) => ({ name: `${provider.kind}-${n}`, ...provider.give() }));
    const ids = await seeder.add(
      { provider: PROVIDERS[provider.kind].provider, client: 'soak' },
      given.map((one) => ({ ...one, nextAt: one.issuedAt + (one.expiresAt - one.issuedAt) * (0.7 + 0.1 * Math.random()) })),
      'soak',
    );
    given.forEach((one, at) => {
      const ours = ids[at] as string;
      world.ours.set(one.grantId, ours);
      all.push({ name: one.name, kind: provider.kind, theirs: one.grantId, ours });
    });
  }
  return all;
}

interface Stage {
  options: SoakOptions;
  replicas: Replica[];
  providers: Map<Kind, Provider>;
  seeded: Seeded[];
  caller: { id: string; key: string };
  databaseFolder: string;
  start(replica: Replica): Promise<void>;
  kill(replica: Replica): Promise<void>;
}

async function play(stage: Stage): Promise<SoakReport> {
  const { options, replicas } = stage;
  const report: SoakReport = {
    issued: 0,
    checked: 0,
    refusals: {},
    recoveries: { count: 0, median: 0, p99: 0, most: 0 },
    faults: {},
    renewals: 0,
    lostInFlight: {},
    declared: 0,
    excused: 0,
    expired: [],
    held: [],
    recoverableLost: [],
    unsettled: [],
  };
  const stop = new AbortController();
  const callers = callApis(stage, report, stop.signal);
  const endsAt = Date.now() + options.seconds * 1000;
  await Promise.all([providersGoWrong(stage, report, endsAt), machinesGoWrong(stage, report, endsAt), tell(report, options, endsAt)]);
  for (const { standin } of stage.providers.values()) await order(standin.port, 'DELETE', 'faults');
  for (const replica of replicas) {
    replica.running?.process.kill('SIGCONT');
    replica.frozen = false;
    if (!replica.running) await stage.start(replica);
  }
  options.say('everything is back; waiting for what can come back');
  await settle(stage, report);
  stop.abort();
  await callers;
  return report;
}

const any = <T>(items: readonly T[]): T => items[Math.floor(Math.random() * items.length)] as T;
const note = (counts: Record<string, number>, what: string): void => {
  counts[what] = (counts[what] ?? 0) + 1;
};

async function order(port: number, method: string, path: string, body?: object): Promise<void> {
  const response = await fetch(`http://127.0.0.1:${port}/standin/${path}`, {
    method,
    ...(body ? { body: JSON.stringify(body), headers: { 'content-type': 'application/json' } } : {}),
  });
  if (!response.ok) throw new Error(`the stand-in rejected an order: ${await response.text()}`);
}

/** 500, 429, HTML, slow, cut before and after processing, answers held back: a few requests each. */
async function providersGoWrong({ providers }: Stage, report: SoakReport, endsAt: number): Promise<void> {
  const kinds = [
    { kind: 'status', status: 500, times: 12 },
    { kind: 'status', status: 429, retry_after_seconds: 2, times: 3 },
    { kind: 'html', times: 4 },
    { kind: 'slow', delay_ms: 3_000, times: 10 },
    { kind: 'cut_before', times: 6 },
    { kind: 'cut_after', times: 1 },
    { kind: 'hold_answer', delay_ms: 2_500, times: 10 },
  ];
  while (Date.now() < endsAt) {
    const fault = any(kinds);
    await order(any([...providers.values()]).standin.port, 'POST', 'faults', { at: 'token', ...fault });
    note(report.faults, fault.kind === 'status' ? `answers ${fault.status}` : fault.kind.replaceAll('_', ' '));
    await sleep(1_500 + Math.random() * 2_500);
  }
}

/** SIGKILL and SIGSTOP of replicas, one at a time; SIGSTOP and SIGKILL of MariaDB. */
async function machinesGoWrong(stage: Stage, report: SoakReport, endsAt: number): Promise<void> {
  const { options, replicas } = stage;
  const databasePid = (): number => (JSON.parse(readFileSync(join(stage.databaseFolder, 'database.json'), 'utf8')) as { pid: number }).pid;
  const left = () => Math.max(0, endsAt - Date.now());
  const acts: Record<string, () => Promise<void>> = {
    'replica killed': async () => {
      const replica = any(replicas);
      await stage.kill(replica);
      await sleep(Math.min(left(), 1_000 + Math.random() * 4_000));
      await stage.start(replica);
    },
    'replica frozen': async () => {
      const replica = any(replicas);
      replica.running?.process.kill('SIGSTOP');
      replica.frozen = true;
      await sleep(Math.min(left(), (0.2 + 0.8 * Math.random()) * options.freezeMost * 1000));
      replica.running?.process.kill('SIGCONT');
      replica.frozen = false;
    },
    'database frozen': async () => {
      const pid = databasePid();
      process.kill(pid, 'SIGSTOP');
      await sleep(Math.min(left(), 2_000 + Math.random() * 6_000));
      process.kill(pid, 'SIGCONT');
    },
    'database killed': async () => {
      process.kill(databasePid(), 'SIGKILL');
      await sleep(Math.min(left(), 4_000)); // it is started again automatically
    },
  };
  // Each at least once, in a short run too; then at random.
  const first = Object.keys(acts).sort(() => Math.random() - 0.5);
  while (left() > 0) {
    await sleep(Math.min(left(), options.seconds * 10 + Math.random() * options.seconds * 20));
    if (left() === 0) return;
    const name = first.pop() ?? any(Object.keys(acts));
    note(report.faults, name);
    await acts[name]?.();
  }
}

async function tell(report: SoakReport, options: SoakOptions, endsAt: number): Promise<void> {
  for (let next = Date.now() + 30_000; next < endsAt; next += 30_000) {
    await sleep(next - Date.now());
    options.say(
      `${Math.round((endsAt - Date.now()) / 1000)} s left: ${report.issued} issued tokens, ${report.checked} checked, faults ${JSON.stringify(report.faults)}`,
    );
  }
  await sleep(Math.max(0, endsAt - Date.now()));
}

/** Callers that ask any replica for any connection, and use each token at the provider. */
async function callApis(stage: Stage, report: SoakReport, stop: AbortSignal): Promise<void> {
  const { replicas, providers, seeded, caller } = stage;
  const publicUrl = `http://127.0.0.1:${replicas[0]?.port}`;
  const pools = new Map(
    replicas.map((replica) => [replica.name, new Pool(`http://127.0.0.1:${replica.port}`, { connections: CALLERS, connectTimeout: 2_000 })]),
  );
  const apis = new Map([...providers].map(([kind, { standin }]) => [kind, new Pool(`http://127.0.0.1:${standin.port}`, { connections: CALLERS })]));
  const refusedSince = new Map<string, number>();
  const recovered: number[] = [];
  const authorization = `Basic ${Buffer.from(`${caller.id}:${caller.key}`).toString('base64')}`;
  const ask = async (pool: Pool, name: string): Promise<{ token: string | null; why: string }> => {
    const answer = await pool.request({
      method: 'POST',
      path: '/oauth/token',
      headers: { authorization, 'content-type': 'application/x-www-form-urlencoded' },
      body: `grant_type=client_credentials&resource=${encodeURIComponent(`${publicUrl}/connections/${name}`)}`,
      signal: AbortSignal.timeout(DEADLINE_MS),
    });
    const body = (await answer.body.json()) as { access_token?: string; error?: string; error_description?: string };
    return { token: body.access_token ?? null, why: `${body.error}: ${body.error_description?.slice(0, 90)}` };
  };
  const worker = async (): Promise<void> => {
    while (!stop.aborted) {
      const [replica, one] = [any(replicas), any(seeded)];
      const provider = providers.get(one.kind) as Provider;
      try {
        if (replica.running && !replica.frozen) {
          const { token, why } = await ask(pools.get(replica.name) as Pool, one.name);
          if (token === null) {
            note(report.refusals, why);
            if (!refusedSince.has(one.name)) refusedSince.set(one.name, Date.now());
          } else {
            report.issued += 1;
            const handedAt = Date.now();
            const since = refusedSince.get(one.name);
            if (since !== undefined) {
              recovered.push(handedAt - since);
              refusedSince.delete(one.name);
            }
            const { expiresAt = 0 } = provider.standin.store.state.accessTokens[token] ?? {};
            if (expiresAt <= handedAt && !replica.frozen) report.expired.push(`${one.name}: issued ${handedAt - expiresAt} ms after it expired`);
            const check = await (apis.get(one.kind) as Pool).request({
              method: 'GET',
              path: PROVIDERS[one.kind].check,
              headers: { authorization: `Bearer ${token}` },
              signal: AbortSignal.timeout(DEADLINE_MS),
            });
            await check.body.dump();
            if (check.statusCode === 200) report.checked += 1;
            else
              note(
                report.refusals,
                `the provider answered ${check.statusCode}${provider.standin.store.state.grants[one.theirs]?.withdrawn ? ', the grant is dead' : ''}`,
              );
          }
        }
      } catch (cause) {
        note(report.refusals, `no answer: ${(cause as { code?: string }).code ?? (cause as Error).name}`);
      }
      await sleep(20 + Math.random() * 60);
    }
  };
  await Promise.all(Array.from({ length: CALLERS }, worker));
  await Promise.all([...pools.values(), ...apis.values()].map((pool) => pool.destroy()));
  recovered.sort((a, b) => a - b);
  const at = (part: number) => recovered[Math.min(recovered.length - 1, Math.floor(recovered.length * part))] ?? 0;
  report.recoveries = { count: recovered.length, median: at(0.5), p99: at(0.99), most: recovered.at(-1) ?? 0 };
}

/** Until no connection is degraded any more: each works, or needs action. */
async function settle({ options, replicas }: Stage, report: SoakReport): Promise<void> {
  const call = await eventually(() => signIn(replicas[0]?.running as ServiceUnderTest), 30_000, 'a sign-in after all came back');
  const startedAt = Date.now();
  await eventually(
    async () => {
      await sleep(500);
      const { connections } = await call('showStatus');
      return connections.degraded === 0 && connections.working + connections.action_needed === connections.total;
    },
    options.settleMs,
    'everything settled',
  ).catch(async () => {
    const { groups } = await call('showStatus');
    report.unsettled = groups.filter((group) => group.state === 'degraded').map((group) => `${group.count}: ${group.says} (${group.example})`);
  });
  options.say(`settled after ${((Date.now() - startedAt) / 1000).toFixed(1)} s`);
}

interface Court {
  world: World;
  /** Senders that were killed. */
  killed: Set<string>;
  seeder: Seeder;
  providers: Map<Kind, Provider>;
  seeded: Seeded[];
  replicas: Replica[];
  key: string;
}

/** Looks at every connection that needs action: was its newest refresh token in our hands? */
async function judge(report: SoakReport, { world, killed, seeder, providers, seeded, replicas, key }: Court): Promise<void> {
  for (const provider of providers.values()) {
    report.held.push(...provider.judged.held);
    report.declared += provider.judged.declared;
    report.excused += provider.judged.excused;
  }
  const rows = await seeder.database.select<{
    grant_id: Buffer;
    generation: number | bigint;
    refresh_sealed: Buffer;
    next_at: Date | null;
    cause: string | null;
  }>('SELECT r.grant_id, r.generation, r.next_at, r.cause, t.refresh_sealed FROM renewals r JOIN tokens t ON t.grant_id = r.grant_id');
  const spareRows = await seeder.database.select<{ grant_id: Buffer; epoch: number | bigint; refresh_sealed: Buffer }>(
    "SELECT grant_id, epoch, refresh_sealed FROM spare_tokens WHERE kind = 'tokens' AND refresh_sealed IS NOT NULL",
  );
  const byOurs = new Map(seeded.map((one) => [one.ours, one]));
  const spilled = replicas.flatMap((replica) =>
    readdirSync(replica.folder).includes('spill')
      ? spill({
          folder: replica.folder,
          master: readMasterKey(Buffer.from(key, 'base64')),
          former: null,
          ports: { random: { unit: Math.random, bytes: (n) => new Uint8Array(n) }, log: console as never },
        }).left()
      : [],
  );
  for (const row of rows) {
    report.renewals += Number(row.generation) - 1;
    if (row.next_at !== null) continue;
    const ours = idText(row.grant_id);
    const one = byOurs.get(ours) as Seeded;
    const provider = providers.get(one.kind) as Provider;
    const tokens = [(await seeder.sealer.open({ table: 'tokens', row: ours, column: 'refresh_sealed' }, row.refresh_sealed)).reveal()];
    for (const spare of spareRows.filter((each) => idText(each.grant_id) === ours)) {
      const place = { table: 'spare_tokens', row: `${ours}/${Number(spare.epoch)}`, column: 'refresh_sealed' };
      tokens.push((await seeder.sealer.open(place, spare.refresh_sealed)).reveal());
    }
    for (const answer of spilled) if (answer.grantId === ours && answer.tokens.refresh) tokens.push(answer.tokens.refresh.reveal());
    if (tokens.some((token) => provider.isCurrent(token)))
      report.recoverableLost.push(`${one.name}: its newest refresh token is here, yet a person is needed (${row.cause})`);
    else {
      const last = provider.lastUse(one.theirs);
      const said = last ? world.said(last) : null;
      if (last && said === 'got' && !killed.has(last.sender))
        report.recoverableLost.push(`${one.name}: ${last.sender} got the answer and was not killed, yet it is lost`);
      else if (last?.delivered && said !== 'gone') note(report.lostInFlight, `answer in the memory or the socket of a replica that was killed (${one.kind})`);
      else if (last?.delivered) note(report.lostInFlight, `answered after the sender had given up (${one.kind})`);
      else note(report.lostInFlight, `the provider cut the line after processing (${one.kind})`);
    }
  }
}

/** The report as people read it; the last line is the verdict. */
export function inWords(report: SoakReport): string {
  const list = (counts: Record<string, number>) =>
    Object.entries(counts)
      .sort((a, b) => b[1] - a[1])
      .map(([what, n]) => `  ${String(n).padStart(7)}  ${what}`)
      .join('\n') || '        0';
  const seconds = (ms: number) => `${(ms / 1000).toFixed(1)} s`;
  const { recoveries } = report;
  return [
    `issued tokens: ${report.issued}, each used at the provider; good there: ${report.checked}`,
    `renewals saved: ${report.renewals}`,
    `faults:\n${list(report.faults)}`,
    `refusals:\n${list(report.refusals)}`,
    `recovery of a rejected connection: ${recoveries.count} times, median ${seconds(recoveries.median)}, p99 ${seconds(recoveries.p99)}, longest ${seconds(recoveries.most)}`,
    `renewals lost in flight (a person is needed, and is informed so):\n${list(report.lostInFlight)}`,
    `second uses whose first answer nobody could bring any more: ${report.excused}; declared retries after the holder wait: ${report.declared}`,
    ...report.expired.slice(0, 10).map((line) => `EXPIRED ${line}`),
    ...report.held.slice(0, 10).map((line) => `HELD ${line}`),
    ...report.recoverableLost.slice(0, 10).map((line) => `LOST ${line}`),
    ...report.unsettled.map((line) => `UNSETTLED ${line}`),
    `expired issued: ${report.expired.length}, second uses while the answer was held: ${report.held.length}, recoverable lost: ${report.recoverableLost.length}`,
  ].join('\n');
}

export const isClean = (report: SoakReport): boolean =>
  report.expired.length + report.held.length + report.recoverableLost.length + report.unsettled.length === 0 && report.issued > 0;
