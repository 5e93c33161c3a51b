import { execFileSync } from 'node:child_process';
import { join } from 'node:path';
import { newFolder, newMasterKey, PASSWORD, removeFolder, rk, type ServiceUnderTest, signIn, startService } from '../../testing/service.ts';
import { eventually } from '../../testing/waiting.ts';
import { startCluster } from '../galera/cluster.ts';
import { judge, type Serving, startProviders, type Verdict } from './judge.ts';
import { connectionOf, servers } from './servers.ts';

/** Moves that docs/DATABASE.md describes, done as it says. */
export const MOVES: { name: string; play(): Promise<Verdict> }[] = [
  { name: 'from the private server to an own one, by a backup with --move', play: () => fromPrivate() },
  { name: 'from an own server to Galera, by a dump', play: () => toGalera() },
];

const BACKUP_PASSPHRASE = 'a long passphrase for this backup';

async function fromPrivate(): Promise<Verdict> {
  const [providers, all, folders, home] = [await startProviders(), servers(), [newFolder(), newFolder()], newFolder()];
  const running: ServiceUnderTest[] = [];
  try {
    const masterKey = newMasterKey();
    const former = await startService({ databaseUrl: '', masterKey, folder: folders[0] as string });
    running.push(former);
    const serving: Serving = { replicas: [former], call: await signIn(former), publicUrl: former.url };
    return await judge(serving, providers, async () => {
      const file = join(home, 'move.backup');
      await done(['sign-in', '--url', former.url, '--name', 'marit'], home, PASSWORD);
      await done(['--url', former.url, 'backup', 'add', '--move', '--to', file], home, BACKUP_PASSPHRASE);
      const target = { databaseUrl: (await all.start()).url, masterKey, folder: folders[1] as string };
      const settings = {
        RUSTY_KETTLE_DATABASE_URL: target.databaseUrl,
        RUSTY_KETTLE_MASTER_KEY: masterKey,
        RUSTY_KETTLE_DATA_FOLDER: target.folder,
      };
      await former.stop();
      await done(['restore', file, '--former-is-gone'], home, BACKUP_PASSPHRASE, settings);
      const today = await startService({ ...target, port: Number(new URL(former.url).port) });
      running.push(today);
      [serving.replicas, serving.call] = [[today], await signIn(today)];
      await eventually(async () => ((await serving.call('showInstallation')).held ? null : true), 100_000, 'the move of the grants');
    });
  } finally {
    for (const one of running) await one.stop();
    await all.stop();
    await providers.stop();
    for (const folder of [...folders, home]) removeFolder(folder);
  }
}

async function toGalera(): Promise<Verdict> {
  const [providers, all, folders] = [await startProviders(), servers(), [newFolder(), newFolder()]];
  const cluster = await startCluster();
  let replicas: ServiceUnderTest[] = [];
  try {
    const [own, masterKey] = [await all.start(), newMasterKey()];
    const first = await startService({ databaseUrl: own.url, masterKey, folder: folders[0] as string });
    replicas = [first];
    const call = await signIn(first);
    const ports = [Number(new URL(first.url).port)];
    const second = await startService({ databaseUrl: own.url, masterKey, folder: folders[1] as string, publicUrl: first.url });
    replicas.push(second);
    ports.push(Number(new URL(second.url).port));
    const serving: Serving = { replicas, call, publicUrl: first.url };
    return await judge(serving, providers, async () => {
      for (const replica of replicas) await replica.stop();
      const dump = execFileSync('mariadb-dump', [...connectionOf(own.url), '--single-transaction', '--hex-blob', 'rusty_kettle'], { maxBuffer: 500_000_000 });
      execFileSync('mariadb', [...connectionOf(cluster.url(0)), 'rusty_kettle'], { input: dump });
      const environment = { RUSTY_KETTLE_DATABASE_NODES: cluster.nodes.join(',') };
      const shared = { databaseUrl: cluster.url(0), masterKey, publicUrl: serving.publicUrl, environment };
      replicas = [];
      for (const [at, port] of ports.entries()) replicas.push(await startService({ ...shared, folder: folders[at] as string, port }));
      serving.replicas = replicas;
    });
  } finally {
    for (const one of replicas) await one.kill();
    await cluster.stop();
    await all.stop();
    await providers.stop();
    for (const folder of folders) removeFolder(folder);
  }
}

/** @throws {Error} where the command fails */
async function done(args: string[], home: string, input: string, environment: Record<string, string> = {}): Promise<void> {
  const ran = await rk(args, { home, input, environment });
  if (ran.code !== 0) throw new Error(`rk ${args.join(' ')}: ${ran.err}`);
}
