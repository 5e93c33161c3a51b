import { execFileSync } from 'node:child_process';
import { setTimeout as sleep } from 'node:timers/promises';
import type { ApiClient } from '../../src/api/client.ts';
import { startForwarder } from '../../testing/forwarder.ts';
import { newFolder, newMasterKey, removeFolder, type ServiceUnderTest, signIn, startService } from '../../testing/service.ts';
import { eventually } from '../../testing/waiting.ts';
import { addClient, addConnection, addEelgrass, agree, fetchToken, startBerthline, startEelgrass } from '../support/harbour.ts';
import { type Server, type Servers, servers } from './servers.ts';

/**
 * `npm run failover`: the database moves, or goes back, under two replicas that renew strict and forgiving grants and issue tokens all the time.
 * Providers count each second use of a refresh token. One line for each; non-zero when one fails.
 */
const LIFE_SECONDS = 6;
const OF_EACH = 5;
const STRICT = Array.from({ length: OF_EACH }, (_one, at) => `strict-${at + 1}`);
const GRACE = Array.from({ length: OF_EACH }, (_one, at) => `grace-${at + 1}`);
const ALL = [...STRICT, ...GRACE];
const SETTLE_MS = 90_000;

interface Scene {
  servers: Servers;
  primary: Server;
  second: Server;
  /** Where the replicas look for their database. */
  address: { switchTo(port: number): void };
}
interface Case {
  name: string;
  semiSync?: boolean;
  /** Before anything runs. */
  stage?(scene: Scene): Promise<void>;
  /** What happens. */
  happens(scene: Scene): Promise<void>;
}

const connectionOf = ({ url }: Server): string[] => {
  const { hostname, port, username, password } = new URL(url);
  return ['--no-defaults', `--host=${hostname}`, `--port=${port}`, `--user=${username}`, `--password=${password}`];
};
const promote = async ({ second, address }: Scene): Promise<void> => {
  await second.run('STOP SLAVE', 'RESET SLAVE ALL', 'SET GLOBAL read_only = 0');
  address.switchTo(second.port);
};

const CASES: Case[] = [
  {
    name: 'asynchronous replica, 15 s behind, promoted when the primary is killed',
    async happens(scene) {
      await scene.second.run('STOP SLAVE IO_THREAD');
      await sleep(15_000);
      await scene.primary.kill();
      await promote(scene);
    },
  },
  {
    name: 'asynchronous replica, a moment behind, promoted when the primary is killed',
    async happens(scene) {
      await scene.primary.kill();
      await promote(scene);
    },
  },
  {
    name: 'semi-synchronous replica (AFTER_SYNC), promoted when the primary is killed',
    semiSync: true,
    async happens(scene) {
      await scene.primary.kill();
      await sleep(1_000);
      await promote(scene);
    },
  },
  {
    name: 'a dump loaded back on the same server after 20 s of renewals',
    async happens({ primary }) {
      const dump = execFileSync('mariadb-dump', [...connectionOf(primary), '--single-transaction', '--hex-blob', 'rusty_kettle'], { maxBuffer: 500_000_000 });
      await sleep(20_000);
      execFileSync('mariadb', [...connectionOf(primary), 'rusty_kettle'], { input: dump });
    },
  },
  {
    name: 'a managed server: its address stays, its machine changes, nothing is lost',
    async happens(scene) {
      await scene.primary.run('SET GLOBAL read_only = 1', 'FLUSH TABLES WITH READ LOCK');
      await sleep(2_000);
      await promote(scene);
      await scene.primary.kill();
    },
  },
];

let failed = 0;
const line = (good: boolean, what: string): void => {
  if (!good) failed += 1;
  process.stdout.write(`${good ? 'ok  ' : 'FAIL'} ${what}\n`);
};

async function play({ name, semiSync = false, happens }: Case): Promise<void> {
  const [strict, grace, all, folders] = [await startBerthline(LIFE_SECONDS), await startEelgrass(LIFE_SECONDS), servers(), [newFolder(), newFolder()]];
  const replicas: ServiceUnderTest[] = [];
  const [primary, second] = [await all.start(), await all.start()];
  await all.follow(primary, second, { semiSync });
  const address = await startForwarder(primary.port);
  let isOver = false;
  try {
    const databaseUrl = primary.url.replace(`:${primary.port}/`, `:${address.port}/`);
    const masterKey = newMasterKey();
    const first = await startService({ databaseUrl, masterKey, folder: folders[0] as string });
    replicas.push(first);
    const call = await signIn(first);
    replicas.push(await startService({ databaseUrl, masterKey, folder: folders[1] as string, publicUrl: first.url }));
    const caller = await setUp(call, strict, grace);
    const asked = { good: 0, retried: 0, other: 0 };
    const load = (async () => {
      for (let at = 0; !isOver; at += 1) {
        const replica = replicas[at % 2] as ServiceUnderTest;
        const { status } = await fetchToken(replica.url, caller.caller_id, caller.key, `${replicas[0]?.url}/connections/${ALL[at % ALL.length]}`);
        if (status === 200) asked.good += 1;
        else if (status === 503) asked.retried += 1;
        else asked.other += 1;
        await sleep(20);
      }
    })();
    await sleep(10_000);
    await happens({ servers: all, primary, second, address });
    const startedAt = Date.now();
    const lastRenewed = new Map<string, string>();
    const isRenewed = async (connection: string): Promise<boolean> => {
      const { state, life } = await call('showConnection', { params: { connection } });
      return state === 'working' && Date.parse(life?.issued_at ?? '') > startedAt && lastRenewed.set(connection, life?.issued_at ?? '').size > 0;
    };
    let missing = [...ALL];
    await eventually(
      async () => {
        const still: string[] = [];
        for (const connection of missing) if (!(await isRenewed(connection).catch(() => false))) still.push(connection);
        missing = still;
        return missing.length === 0;
      },
      SETTLE_MS,
      'a renewal of every connection',
    ).catch(() => undefined);
    const pauseS = (Date.now() - startedAt) / 1_000;
    isOver = true;
    await load;
    let reuses = 0;
    for (const one of [strict, grace]) {
      const { counters } = await one.counters();
      reuses += (counters.reuse ?? 0) + (counters.reuse_in_grace ?? 0);
    }
    const states = (await call('listConnections')).items.filter((one) => one.state === 'action_needed').length;
    const events = (await call('listHistory', { query: { subject: 'installation', limit: 50 } })).items.map((one) => one.kind);
    const noticed = events.includes('database_went_back') ? 'noticed' : 'nothing to notice';
    line(
      reuses === 0 && states === 0 && missing.length === 0 && asked.other === 0,
      `${name}: second uses ${reuses}, connections that need a person ${states}, not renewed again ${missing.length}, all renewed after ${pauseS.toFixed(1)} s, tokens ${asked.good} issued, ${asked.retried} later, ${asked.other} refused; ${noticed}`,
    );
  } catch (error) {
    line(false, `${name}: ${error instanceof Error ? error.message : String(error)}`);
  } finally {
    isOver = true;
    for (const replica of replicas) await replica.kill();
    await address.stop();
    await all.stop();
    await strict.stop();
    await grace.stop();
    for (const folder of folders) removeFolder(folder);
  }
}

async function setUp(call: ApiClient, strict: Awaited<ReturnType<typeof startBerthline>>, grace: Awaited<ReturnType<typeof startEelgrass>>) {
  await call('addProvider', { body: { document: strict.definitionText } });
  await addClient(call, strict, 'berths', { provider: 'berthline', placeholders: { region: 'north' } });
  await addEelgrass(call, grace);
  for (const name of STRICT) await addConnection(call, name, ['bookings.read', 'profile'], 'berths', 'berthline');
  for (const name of GRACE) await addConnection(call, name);
  for (const name of ALL) await agree(call, name);
  return call('addCaller', { body: { name: 'board', connections: ALL } });
}

const only = process.argv[2];
for (const one of CASES) if (only === undefined || one.name.includes(only)) await play(one);
process.exit(failed === 0 ? 0 : 1);
