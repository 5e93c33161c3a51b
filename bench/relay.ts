import { setTimeout as sleep } from 'node:timers/promises';
import autocannon from 'autocannon';
import { openSeeder } from '../testing/seed.ts';
import { startChild } from './child.ts';
import { permitFresh } from './handouts.ts';
import { type Measured, middleRound, say, startRig } from './rig.ts';

const CONCURRENCY = 50;
const SECONDS = 8;
const ROUNDS = 3;

/** Relayed calls a second of one process, caller key and permission checked, token placed, quota counted; beside a bare proxy. */
export async function benchRelay(databaseUrl: string): Promise<Measured[]> {
  const api = await startChild('bare-api.ts');
  const proxy = await startChild('bare-proxy.ts', [String(api.port)]);
  // The quota of the definition would be used up in seconds; it is counted all the same.
  const rig = await startRig(databaseUrl, api.port, {}, (text) => text.replace('most: 100000', 'most: 1000000000'));
  const seeder = await openSeeder(databaseUrl, rig.masterKey);
  try {
    const { names, requests } = await permitFresh(rig, seeder, 'r', 100, 400);
    await sleep(500);
    const authorization = requests[0]?.headers.authorization ?? '';
    const run = (url: string, paths: string[]) =>
      autocannon({ url, connections: CONCURRENCY, duration: SECONDS, requests: paths.map((path) => ({ method: 'GET' as const, path, headers: { authorization } })) });
    const ourPaths = names.map((name) => `/relay/${name}/tables?limit=20`);
    const theirPaths = names.map(() => '/v1/tables?limit=20');
    const warm = await run(rig.service.url, ourPaths);
    if (warm.non2xx > 0 || warm.errors > 0) throw new Error(`${warm.non2xx} relayed calls were refused, ${warm.errors} broke off`);
    const rounds: { ours: number; theirs: number }[] = [];
    for (let round = 0; round < ROUNDS; round += 1) {
      const theirs = await run(`http://127.0.0.1:${proxy.port}`, theirPaths);
      const ours = await run(rig.service.url, ourPaths);
      rounds.push({ ours: ours.requests.average, theirs: theirs.requests.average });
      say(`relay: ${Math.round(ours.requests.average)}/s, bare proxy ${Math.round(theirs.requests.average)}/s`);
    }
    const middle = middleRound(rounds);
    return [
      {
        what: 'relay requests a second, one process, caller key checked, quota counted',
        ours: `${Math.round(middle.ours)}/s`,
        against: `bare node:http + undici proxy ${Math.round(middle.theirs)}/s`,
        ratio: middle.ours / middle.theirs,
        target: '\u2265 0.6',
        holds: middle.ours / middle.theirs >= 0.6,
      },
    ];
  } finally {
    await seeder.close();
    await rig.service.stop();
    proxy.stop();
    api.stop();
  }
}
