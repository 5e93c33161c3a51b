import autocannon from 'autocannon';
import { openSeeder } from '../testing/seed.ts';
import { alternate } from './alternate.ts';
import { startChild } from './child.ts';
import { type Measured, startRig } from './rig.ts';
import { permitFresh } from './tokens.ts';

const CONCURRENCY = 50;
const SLICE_SECONDS = 1;
const SLICES = 16;

/** Relayed calls a second in one slice; any that is rejected or breaks off ends the measuring. */
export async function relayRate(url: string, paths: string[], authorization: string): Promise<number> {
  const sent = paths.map((path) => ({ method: 'GET' as const, path, headers: { authorization } }));
  const { non2xx, errors, requests } = await autocannon({ url, connections: CONCURRENCY, duration: SLICE_SECONDS, requests: sent });
  if (non2xx > 0 || errors > 0) throw new Error(`${non2xx} relayed calls were rejected, ${errors} broke off`);
  return requests.total / SLICE_SECONDS;
}

/** Relayed calls a second of one process, caller key and permission checked, token placed, quota counted; beside a bare proxy. */
export async function benchRelay(databaseUrl: string): Promise<Measured[]> {
  const api = await startChild('bare-api.ts');
  const proxy = await startChild('bare-proxy.ts', [String(api.port)]);
  // The quota of the definition would be used up in seconds; it is counted anyway.
  const rig = await startRig(databaseUrl, api.port, {}, (text) => text.replace('most: 100000', 'most: 1000000000'));
  const seeder = await openSeeder(databaseUrl, rig.masterKey);
  try {
    const { names, requests } = await permitFresh(rig, seeder, 'r', 100, 400);
    await seeder.settled();
    const authorization = requests[0]?.headers.authorization ?? '';
    const ourPaths = names.map((name) => `/relay/${name}/tables?limit=20`);
    const theirPaths = names.map(() => '/v1/tables?limit=20');
    const compared = await alternate({
      what: 'relay',
      ours: () => relayRate(rig.service.url, ourPaths, authorization),
      theirs: () => relayRate(`http://127.0.0.1:${proxy.port}`, theirPaths, authorization),
      slices: SLICES,
      warmUp: 3,
    });
    return [
      {
        key: 'relay',
        what: 'relayed calls per second, one process, caller key checked, quota counted',
        ours: `${Math.round(compared.ours)}/s`,
        against: `bare node:http + undici proxy ${Math.round(compared.theirs)}/s`,
        ratio: compared,
        target: '\u2265 0.75',
        holds: compared.ratio >= 0.75,
      },
    ];
  } finally {
    await seeder.close();
    await rig.service.stop();
    proxy.stop();
    api.stop();
  }
}
