import { chmodSync, mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../../src/api/client.ts';
import type { RehearsalPlan, RehearsalShown } from '../../src/api/rehearsals.ts';
import { ChannelRule } from '../../src/core/notices/channel.ts';
import { rehearse } from '../../src/rehearsal/main.ts';
import { newMasterKey, PASSWORD, rk, type ServiceUnderTest, signIn, startService } from '../../testing/service.ts';
import { eventually } from '../../testing/waiting.ts';
import { addConnection, addEelgrass, agree, type StandinUnderTest, startEelgrass } from '../support/harbour.ts';
import { newDatabase } from '../support/new-database.ts';

/** What a rehearsal shows is what would be: the forecast of 90 days, and a provider that is down, with nothing real touched. */
const DAY_MS = 86_400_000;
const LONG = 300_000;

const definition = (name: string, change: (text: string) => string = (text) => text) => ({
  name,
  document: change(readFileSync(new URL(`../../definitions/${name}.yaml`, import.meta.url), 'utf8')),
});
type Client = RehearsalPlan['clients'][number];
const client = (provider: string, more: Partial<Client>): Client => ({
  ...{ provider, name: 'main', type: 'web', environment: 'live', variant: null, placeholders: {}, method: null, reach: 'anyone', scopes: [] },
  secrets: [{ kind: 'secret', endsAt: null }],
  ...more,
});
type Connection = RehearsalPlan['connections'][number];
const connection = (name: string, provider: string, scopes: string[], more: Partial<Connection> = {}): Connection => ({
  ...{ name, provider, client: 'main', grantKind: 'authorization_code', scopes, placeholders: {}, operations: [], labels: [], policy: 'always' },
  shared: false,
  ...more,
});

/** A world in which secrets, certificates, grants, test phases and keys end on days that differ from run to run; and one thing that lasts. */
function world(act: boolean): { plan: RehearsalPlan; ends: number } {
  const day = (): number => Date.now() + Math.floor(4 + Math.random() * 80) * DAY_MS;
  const graceDays = Math.floor(10 + Math.random() * 60);
  const withLife = (text: string) => text.replace(/^dialect:\n/m, `dialect:\n  absolute_life_seconds: ${graceDays * 86_400}\n`);
  const rosters = ['rosters:read', 'whoami', 'offline_access'];
  return {
    ends: 5,
    plan: {
      ...{ scenario: 'ninety_days', hits: '', act, jobs: [], channels: [], leftOut: [] },
      providers: [definition('eelgrass'), definition('berthline', withLife), definition('ledgerfin'), definition('bosunry'), definition('deckhail')],
      clients: [
        client('eelgrass', { secrets: [{ kind: 'secret', endsAt: day() }] }),
        client('berthline', { placeholders: { region: 'north' } }),
        client('ledgerfin', {
          ...{ type: 'service_account', placeholders: { tenant: 'lf204816' }, method: 'private_key_jwt', scopes: ['books.read', 'books.post'] },
          secrets: [{ kind: 'certificate', endsAt: day() }],
        }),
        client('bosunry', { reach: 'listed', scopes: rosters }),
        client('deckhail', { type: 'desktop', scopes: ['hear', 'announce', 'offline_access'] }),
      ],
      connections: [
        connection('sailings', 'eelgrass', ['tables.read', 'profile', 'offline_access']),
        connection('berths', 'berthline', ['bookings.read', 'profile']),
        connection('ledger', 'ledgerfin', ['books.read', 'books.post'], { grantKind: 'client_credentials' }),
        connection('rosters', 'bosunry', rosters),
        connection('announcements', 'deckhail', ['hear', 'announce', 'offline_access']),
      ],
      callers: [
        { name: 'dated', connections: ['announcements'], labels: [], keyEndsAt: day() },
        { name: 'lasting', connections: ['sailings', 'berths', 'ledger', 'rosters', 'announcements'], labels: [], keyEndsAt: null },
      ],
    },
  };
}

test(
  'ninety days: exactly what was forecast stops, on its date, and nothing else',
  async () => {
    const { plan, ends } = world(false);
    // A server on this machine is a real one.
    plan.providers.push(definition('oakum', (text) => text.replace(/base_url: .*/, 'base_url: "http://127.0.0.1:9/api"')));
    const report = await rehearse(plan, () => undefined);
    expect(report.leftOut).toEqual([{ what: 'Provider oakum', why: expect.stringContaining('http://127.0.0.1:9') }]);
    expect(report.forecast.map(({ what, outcome }) => [what.split(' (')[0], outcome])).toHaveLength(ends);
    expect(report.forecast.filter((one) => one.outcome !== 'happened')).toEqual([]);
    expect(report.unforeseen).toEqual([]);
    for (const { at, hit } of report.forecast)
      for (const name of hit) {
        const states = report.connections.find((one) => one.connection === name)?.states ?? [];
        const before = states.filter((one) => one.to <= at);
        expect(before.map((one) => one.says).filter((says) => says !== 'working')).toEqual([]);
      }
    const lasting = report.callers.find((one) => one.caller === 'lasting' && one.connection === 'announcements');
    expect(lasting).toMatchObject({ failures: [], calls: { failures: [] } });
    // Each had a notice before its date.
    for (const { at } of report.forecast) expect(report.notices.some((one) => one.openedAt < at)).toBe(true);
  },
  LONG,
);

// As long as all others of this file together: `npm run long` plays it.
test.runIf(process.env.REHEARSALS === 'all')(
  'ninety days with someone who acts in time: nothing stops, and no caller notices',
  async () => {
    const report = await rehearse(world(true).plan, () => undefined);
    expect(report.forecast.filter((one) => one.outcome !== 'prevented')).toEqual([]);
    expect(report.unforeseen).toEqual([]);
    expect(report.callers.filter((one) => one.good < one.asked)).toEqual([]);
    expect(report.connections.flatMap((one) => one.states.map((state) => state.says)).filter((says) => says !== 'working')).toEqual([]);
  },
  LONG,
);

let [service, call, standin] = [] as unknown as [ServiceUnderTest, ApiClient & { token: string }, StandinUnderTest];
let secret = '';
let databaseUrl = '';
const masterKey = newMasterKey();
const scratch = mkdtempSync(join(tmpdir(), 'rk-scratch-'));
chmodSync(scratch, 0o711); // the database runs as a user of its own
beforeAll(async () => {
  standin = await startEelgrass(3_600);
  databaseUrl = await newDatabase();
  service = await startService({ databaseUrl, masterKey, environment: { TMPDIR: scratch } });
  call = await signIn(service);
}, LONG);
afterAll(async () => {
  await Promise.all([service?.stop(), standin?.stop()]);
  rmSync(scratch, { recursive: true, force: true });
});

const leftOver = (): string[] => readdirSync(scratch).filter((name) => name.includes('rehearsal-'));
/** Database servers whose data is below the folder. */
const processesIn = (path: string): string[] =>
  readdirSync('/proc')
    .filter((name) => /^\d+$/.test(name))
    .filter((pid) => {
      try {
        return readFileSync(`/proc/${pid}/cmdline`, 'utf8').includes(`--datadir=${path}`);
      } catch {
        return false; // it ended while we looked
      }
    });
const ended = (id: string): Promise<RehearsalShown> =>
  eventually(
    async () => {
      const seen = await call('showRehearsal', { params: { rehearsal: id } });
      return seen.state === 'running' ? null : seen;
    },
    LONG,
    'the end of the rehearsal',
  );

test('with nothing to rehearse, that is said', async () => {
  await expect(call('startRehearsal', { body: { scenario: 'provider_down' } })).rejects.toThrow(/No connection can be rehearsed/);
});

test(
  'a provider that is down: what callers, jobs and channels would have seen, one rehearsal at a time; nothing real is called, no secret leaves',
  async () => {
    ({ secret } = await addEelgrass(call, standin));
    await addConnection(call, 'tides');
    await agree(call, 'tides');
    await call('addCaller', { body: { name: 'board', connections: ['tides'] } });
    const path = '/tables/sailings/rows';
    // Twice within the hour that is rehearsed, and not for real while this test runs.
    const minutes = [20, 50].map((after) => (new Date().getUTCMinutes() + after) % 60).join(',');
    const schedule = { kind: 'cron' as const, expression: `${minutes} * * * *`, zone: 'UTC' };
    await call('addJob', { body: { name: 'rows', connection: 'tides', call: { method: 'GET', path }, schedule, enabled: true } });
    const rule = ChannelRule.parse({ severities: { action: 'now', warning: 'now', info: 'off' } });
    await call('addChannel', { body: { kind: 'webhook', name: 'ops', url: 'http://127.0.0.1:9/hook', rule } });
    const before = await standin.counters();
    const started = await call('startRehearsal', { body: { scenario: 'provider_down' } });
    await expect(call('startRehearsal', { body: { scenario: 'lost_answers' } })).rejects.toThrow(/A rehearsal is running/);
    const { report, document, summary, percent, doing } = await ended(started.id);
    expect([percent, doing]).toEqual([expect.any(Number), '']);
    expect(report).toMatchObject({ hits: 'eelgrass', leftOut: [], played: { connections: 1 }, unforeseen: [] });
    const [board] = report?.callers ?? [];
    expect(board).toMatchObject({ caller: 'board', connection: 'tides', failures: [{ says: '503 temporarily_unavailable' }] });
    expect(board?.calls?.failures.map((one) => one.says)).toContain('503 from the provider');
    expect(report?.connections[0]?.states.at(-1)?.says).toBe('working');
    expect(report?.jobs).toMatchObject([{ job: 'rows' }]);
    const down = report?.notices.filter((one) => one.sent.length > 0) ?? [];
    expect(down.map((one) => one.sent.map(({ channel, event }) => `${channel} ${event}`))).toEqual([['ops opened', 'ops closed']]);
    expect(summary.join(' ')).toContain('At the end every connection worked.');
    expect(document).toContain('# Rehearsal: Provider down for an hour');
    for (const hidden of [secret, 'marit.holm', '127.0.0.1:9']) expect(JSON.stringify([report, document])).not.toContain(hidden);
    expect(await standin.counters()).toEqual(before);
    await eventually(async () => leftOver().length === 0);
  },
  LONG,
);

test(
  'a service that is killed amid a rehearsal takes its scratch database along; the next start removes the folder with its key',
  async () => {
    const { id } = await call('startRehearsal', { body: { scenario: 'ninety_days' } });
    const server = await eventually(async () => processesIn(scratch)[0]);
    await service.kill();
    await eventually(async () => processesIn(scratch).length === 0, 60_000, `the end of process ${server}`);
    expect(leftOver()).toHaveLength(1);
    const { folder, url } = service;
    service = await startService({ databaseUrl, masterKey, folder, port: Number(new URL(url).port), environment: { TMPDIR: scratch } });
    await eventually(async () => leftOver().length === 0);
    await call('cancelRehearsal', { params: { rehearsal: id } }); // nobody plays it any more
  },
  LONG,
);

test(
  'without room for a scratch database it says so; one is canceled: it ends, takes down its scratch database, and the next can start; `rk` plays one and prints its report',
  async () => {
    rmSync(scratch, { recursive: true });
    const unstaged = await ended((await call('startRehearsal', { body: { scenario: 'provider_down' } })).id);
    expect([unstaged.state, unstaged.doing]).toEqual(['failed', expect.stringMatching(/The scratch database of the rehearsal could not be made.*TMPDIR/)]);
    mkdirSync(scratch, { mode: 0o711 });
    const started = await call('startRehearsal', { body: { scenario: 'ninety_days' } });
    await eventually(async () => readdirSync(scratch).length > 0);
    expect(await call('cancelRehearsal', { params: { rehearsal: started.id } })).toMatchObject({ state: 'canceled', report: null });
    await eventually(async () => leftOver().length === 0, LONG);
    const home = service.folder;
    const run = (...args: string[]) => rk(['--url', service.url, ...args], { home });
    expect((await rk(['sign-in', '--url', service.url, '--name', 'marit'], { home, input: PASSWORD })).code).toBe(0);
    const wrong = await run('rehearse', 'tsunami');
    expect([wrong.code, wrong.err]).toEqual([2, expect.stringContaining('provider-down')]);
    const { code, out } = await run('rehearse', 'quota-used-up', '--provider', 'eelgrass');
    expect([code, out]).toEqual([0, expect.stringContaining('# Rehearsal: Quota used up')]);
    expect((await run('rehearsal', 'list')).out).toMatch(/Quota used up +done[\s\S]*Ninety days +canceled/);
  },
  LONG,
);
