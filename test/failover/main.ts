import { execFileSync } from 'node:child_process';
import { setTimeout as sleep } from 'node:timers/promises';
import { startForwarder } from '../../testing/forwarder.ts';
import { newFolder, newMasterKey, removeFolder, type ServiceUnderTest, signIn, startService } from '../../testing/service.ts';
import { judge, type Serving, startProviders, type Verdict } from './judge.ts';
import { MOVES } from './moves.ts';
import { connectionOf, type Server, type Servers, servers } from './servers.ts';

/**
 * `npm run failover`: the database moves, or goes back, under replicas that renew strict and forgiving grants and issue tokens all the time.
 * Providers count each second use of a refresh token. One line for each case; non-zero when one fails.
 */
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
      const dump = execFileSync('mariadb-dump', [...connectionOf(primary.url), '--single-transaction', '--hex-blob', 'rusty_kettle'], {
        maxBuffer: 500_000_000,
      });
      await sleep(20_000);
      execFileSync('mariadb', [...connectionOf(primary.url), 'rusty_kettle'], { input: dump });
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

async function play({ semiSync = false, happens }: Case): Promise<Verdict> {
  const [providers, all, folders] = [await startProviders(), servers(), [newFolder(), newFolder()]];
  const replicas: ServiceUnderTest[] = [];
  const [primary, second] = [await all.start(), await all.start()];
  await all.follow(primary, second, { semiSync });
  const address = await startForwarder(primary.port);
  try {
    const shared = { databaseUrl: primary.url.replace(`:${primary.port}/`, `:${address.port}/`), masterKey: newMasterKey() };
    const first = await startService({ ...shared, folder: folders[0] as string });
    replicas.push(first);
    const call = await signIn(first);
    replicas.push(await startService({ ...shared, folder: folders[1] as string, publicUrl: first.url }));
    const serving: Serving = { replicas, call, publicUrl: first.url };
    return await judge(serving, providers, () => happens({ servers: all, primary, second, address }));
  } finally {
    for (const replica of replicas) await replica.kill();
    await address.stop();
    await all.stop();
    await providers.stop();
    for (const folder of folders) removeFolder(folder);
  }
}

let failed = 0;
const only = process.argv[2];
for (const one of [...CASES.map((of) => ({ name: of.name, play: () => play(of) })), ...MOVES]) {
  if (only !== undefined && !one.name.includes(only)) continue;
  const { good, text } = await one.play().catch((error: unknown): Verdict => ({ good: false, text: error instanceof Error ? error.message : String(error) }));
  if (!good) failed += 1;
  process.stdout.write(`${good ? 'ok  ' : 'FAIL'} ${one.name}: ${text}\n`);
}
process.exit(failed === 0 ? 0 : 1);
