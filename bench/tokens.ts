import { readFileSync } from 'node:fs';
import { setTimeout as sleep } from 'node:timers/promises';
import autocannon from 'autocannon';
import { openSeeder, type SeededConnection, type Seeder } from '../testing/seed.ts';
import { alternate } from './alternate.ts';
import { startChild } from './child.ts';
import { pacedP99, postBytes } from './paced.ts';
import { CLIENT, type Measured, type Rig, startReplica, startRig } from './rig.ts';

const CONCURRENCY = 50;
const SLICE_SECONDS = 1;
const SLICES = 16;
const P99_SECONDS = 4;
const P99_SLICES = 7;
const HOUR_MS = 3_600_000;

const fresh = (prefix: string, count: number, tokenBytes: number): SeededConnection[] => {
  const now = Date.now();
  return Array.from({ length: count }, (_one, n) => ({
    name: `${prefix}${n}`,
    access: `${n}.`.padEnd(tokenBytes, 'x'),
    refresh: `r.${n}`,
    issuedAt: now,
    expiresAt: now + 24 * HOUR_MS,
    nextAt: now + 18 * HOUR_MS,
  }));
};

interface Load {
  url: string;
  requests: { headers: Record<string, string>; body: string }[];
}
const run = ({ url, requests }: Load) =>
  autocannon({
    url,
    connections: CONCURRENCY,
    duration: SLICE_SECONDS,
    requests: requests.map((one) => ({ method: 'POST' as const, path: '/oauth/token', ...one })),
  });
/** A caller with fresh connections of its own, and the token requests for each of them. */
export async function permitFresh(
  rig: Rig,
  seeder: Seeder,
  prefix: string,
  count: number,
  tokenBytes: number,
): Promise<{ names: string[]; requests: Load['requests'] }> {
  const caller = await rig.call('addCaller', { body: { name: 'bench', connections: [] } });
  const connections = fresh(prefix, count, tokenBytes);
  await seeder.add(CLIENT, connections, 'bench');
  const names = connections.map((one) => one.name);
  return { names, requests: tokenRequests(rig, caller.caller_id, caller.key, names) };
}

const p99At = (url: string, requests: Load['requests'], rate: number): Promise<number> =>
  pacedP99({
    url,
    requests: requests.map((one) => postBytes(url, '/oauth/token', one.headers, one.body)),
    rate,
    seconds: P99_SECONDS,
    warmUpMs: 1_000,
    connections: CONCURRENCY,
  });

const tokenRequests = (rig: Rig, id: string, key: string, names: string[]): Load['requests'] =>
  names.map((name) => ({
    headers: {
      authorization: `Basic ${Buffer.from(`${id}:${key}`).toString('base64')}`,
      'content-type': 'application/x-www-form-urlencoded',
    },
    body: new URLSearchParams({ grant_type: 'client_credentials', resource: `${rig.service.url}/connections/${name}` }).toString(),
  }));

/** Requests a second in one slice; any that is rejected or breaks off ends the measuring. */
export async function tokenRate(load: Load): Promise<number> {
  const { non2xx, errors, requests } = await run(load);
  if (non2xx > 0 || errors > 0) throw new Error(`${non2xx} requests were rejected, ${errors} broke off`);
  return requests.total / SLICE_SECONDS;
}

/** Tokens issued a second by one process with the caller's key checked, and their p99 at half of that. */
export async function benchTokens(databaseUrl: string): Promise<Measured[]> {
  const rig = await startRig(databaseUrl, 9);
  const seeder = await openSeeder(databaseUrl, rig.masterKey);
  try {
    const { requests } = await permitFresh(rig, seeder, 'c', 1_000, 400);
    await seeder.settled();
    const answer = await fetch(`${rig.service.url}/oauth/token`, { method: 'POST', ...(requests[0] as { headers: Record<string, string>; body: string }) });
    const bare = await startChild('bare-handler.ts', [await answer.text()]);
    const compared = await alternate({
      what: 'tokens issued',
      ours: () => tokenRate({ url: rig.service.url, requests }),
      theirs: () => tokenRate({ url: `http://127.0.0.1:${bare.port}`, requests }),
      slices: SLICES,
      warmUp: 3,
    });
    const half = Math.floor(compared.ours / 2);
    const p99 = await alternate({
      what: 'p99 of issuing',
      ours: () => p99At(rig.service.url, requests, half),
      theirs: () => p99At(`http://127.0.0.1:${bare.port}`, requests, half),
      slices: P99_SLICES,
    });
    bare.stop();
    return [
      {
        key: 'tokens',
        what: 'tokens issued per second, one process, caller key checked',
        ours: `${Math.round(compared.ours)}/s`,
        against: `bare handler ${Math.round(compared.theirs)}/s`,
        ratio: compared,
        target: '\u2265 0.6',
        holds: compared.ratio >= 0.6,
      },
      {
        key: 'p99',
        what: 'p99 of issuing at half its peak rate',
        ours: `${p99.ours.toFixed(1)} ms`,
        against: `bare handler, ${half}/s: ${p99.theirs.toFixed(1)} ms`,
        ratio: null,
        target: '\u2264 15 ms',
        holds: p99.ours <= 15,
      },
    ];
  } finally {
    await seeder.close();
    await rig.service.stop();
  }
}

const residentMb = (pid: number): number => Number(/VmRSS:\s+(\d+) kB/.exec(readFileSync(`/proc/${pid}/status`, 'utf8'))?.[1] ?? 0) / 1024;

/** The lowest of half a minute: what is used, without what the next collection of garbage frees. */
async function settledMb(pid: number): Promise<number> {
  let lowest = Number.POSITIVE_INFINITY;
  for (let looks = 0; looks < 30; looks += 1) {
    lowest = Math.min(lowest, residentMb(pid));
    await sleep(1_000);
  }
  return lowest;
}

/** Resident memory once 100,000 tokens of 1,000 bytes have been issued, beside the idle service. */
export async function benchMemory(databaseUrl: string, count = 100_000): Promise<Measured[]> {
  const rig = await startRig(databaseUrl, 9);
  const seeder = await openSeeder(databaseUrl, rig.masterKey);
  try {
    const pid = rig.service.process.pid ?? 0;
    const idle = await settledMb(pid);
    const { requests } = await permitFresh(rig, seeder, 'm', count, 1_000);
    let next = 0;
    const worker = async () => {
      while (next < requests.length) {
        const request = requests[next++] as (typeof requests)[number];
        const answer = await fetch(`${rig.service.url}/oauth/token`, { method: 'POST', ...request });
        if (!answer.ok) throw new Error(`a token was rejected: ${await answer.text()}`);
        await answer.arrayBuffer();
      }
    };
    await Promise.all(Array.from({ length: 16 }, worker));
    const full = await settledMb(pid);
    return [
      {
        key: 'memory',
        what: `memory with ${count.toLocaleString('en')} cached tokens of 1,000 bytes`,
        ours: `+ ${Math.round(full - idle)} MB`,
        against: `idle ${Math.round(idle)} MB`,
        ratio: null,
        target: '\u2264 + 220 MB',
        holds: full - idle <= 220,
      },
    ];
  } finally {
    await seeder.close();
    await rig.service.stop();
  }
}

const LOOK_EVERY_MS = 40;
const AT_ONCE = 10;

/** From the request to pause to the last token issued by any of three replicas; the worst of many. */
export async function benchPause(databaseUrl: string, pauses = 1_000): Promise<Measured[]> {
  const rig = await startRig(databaseUrl, 9);
  const seeder = await openSeeder(databaseUrl, rig.masterKey);
  const replicas = [rig.service, await startReplica(rig, databaseUrl), await startReplica(rig, databaseUrl)];
  try {
    const { names, requests } = await permitFresh(rig, seeder, 'p', pauses, 400);
    const lastAfter: number[] = [];
    const one = async (at: number): Promise<void> => {
      const ask = async (url: string) => (await fetch(`${url}/oauth/token`, { method: 'POST', ...(requests[at] as (typeof requests)[number]) })).status;
      for (const replica of replicas) if ((await ask(replica.url)) !== 200) throw new Error('a connection to pause gives no token');
      let lastAt = 0;
      const startedAt = performance.now();
      const watch = replicas.map(async (replica) => {
        for (const endsAt = startedAt + 5_000; performance.now() < endsAt; await sleep(LOOK_EVERY_MS)) {
          if ((await ask(replica.url)) !== 200) return;
          lastAt = Math.max(lastAt, performance.now());
        }
        throw new Error('a paused connection still gave tokens after 5 s');
      });
      await rig.call('pauseConnection', { params: { connection: names[at] ?? '' } });
      await Promise.all(watch);
      lastAfter.push(Math.max(0, lastAt - startedAt));
    };
    for (let from = 0; from < pauses; from += AT_ONCE) await Promise.all(Array.from({ length: Math.min(AT_ONCE, pauses - from) }, (_x, n) => one(from + n)));
    const worst = Math.max(...lastAfter);
    return [
      {
        key: 'pause',
        what: `pause to the last token issued, 3 replicas, max of ${pauses.toLocaleString('en')}`,
        ours: `${Math.round(worst)} ms`,
        against: 'looked every 40 ms at each replica',
        ratio: null,
        target: '\u2264 1 s',
        holds: worst <= 1_000,
      },
    ];
  } finally {
    await seeder.close();
    for (const replica of replicas) await replica.stop();
  }
}
