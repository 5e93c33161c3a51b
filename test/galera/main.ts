import { randomUUID } from 'node:crypto';
import { setTimeout as sleep } from 'node:timers/promises';
import { DEFAULT_LIMITS } from '../../src/core/renewal/limits.ts';
import { firstRow } from '../../src/core/renewal/row.ts';
import { arm, claim, save } from '../../src/core/renewal/transitions.ts';
import { openDatabase } from '../../src/service/store/database.ts';
import { renewalStore } from '../../src/service/store/renewals.ts';
import { newFolder, newMasterKey, removeFolder, type ServiceUnderTest, signIn, startService } from '../../testing/service.ts';
import { eventually } from '../../testing/waiting.ts';
import { addConnection, addEelgrass, agree, fetchToken, startEelgrass } from '../support/harbour.ts';
import { startCluster } from './cluster.ts';

/** `npm run galera`: claims, saves and withdrawals over three nodes, of which one is killed. One line for each rule; non-zero when one fails. */
const RACES = 200;
let failed = 0;
const line = (good: boolean, what: string): void => {
  if (!good) failed += 1;
  process.stdout.write(`${good ? 'ok  ' : 'FAIL'} ${what}\n`);
};

const cluster = await startCluster();
process.stdout.write(`three nodes are in step: ${cluster.nodes.join(', ')}\n`);
const [masterKey, standin] = [newMasterKey(), await startEelgrass(6)];
const replicas: ServiceUnderTest[] = [];
const folders = [newFolder(), newFolder(), newFolder()];

/** Two nodes race for the same rows: claims, then saves of the generation both believe in. */
async function races(nodes: [number, number], label: string): Promise<void> {
  const databases = nodes.map((node) => openDatabase(cluster.url(node), 4, [cluster.nodes[node] as string]));
  const stores = databases.map((database) => renewalStore(database));
  const [one, two] = stores as [(typeof stores)[0], (typeof stores)[0]];
  let [claimedTwice, savedTwice, unclaimed, unsaved] = [0, 0, 0, 0];
  const life = { issuedAt: Date.now(), expiresAt: Date.now() + 3_600_000 };
  for (let race = 0; race < RACES; race += 1) {
    const grantId = randomUUID();
    await one.insert(grantId, randomUUID(), firstRow(life, Date.now() - 60_000), { accessSealed: Buffer.from('a'), refreshSealed: Buffer.from('r') });
    const claims = [randomUUID(), randomUUID()];
    const me = randomUUID();
    const taken = await Promise.all([one, two].map((store, at) => store.update([grantId], claim(me, claims[at] as string, DEFAULT_LIMITS))));
    const held = await one.read(grantId);
    const winners = taken.filter((rows) => rows > 0).length;
    if (winners > 1) claimedTwice += 1;
    if (winners === 0 && held?.row.epoch !== 1) unclaimed += 1; // a commit in doubt may have been ours: then the row shows it
    const attempt = { me, claimId: held?.row.claimId ?? '', epoch: held?.row.epoch ?? 0, generation: 1 };
    await one.arm(grantId, arm(attempt, DEFAULT_LIMITS, 5_000));
    const saved = await Promise.all(
      [one, two].map((store, at) =>
        store.save(grantId, save(attempt, life, Date.now() + 3_600_000), { accessSealed: Buffer.from(`a${at}`), refreshSealed: Buffer.from(`r${at}`) }),
      ),
    );
    const after = await two.read(grantId);
    if (saved.filter(Boolean).length > 1) savedTwice += 1;
    if (after?.row.generation !== 2 || after.accessSealed.toString().slice(1) !== after.refreshSealed?.toString().slice(1)) unsaved += 1;
  }
  line(claimedTwice === 0 && unclaimed === 0, `${label}: ${RACES} claims of one row from two nodes, won twice: ${claimedTwice}, by nobody: ${unclaimed}`);
  line(savedTwice === 0 && unsaved === 0, `${label}: ${RACES} saves of one generation from two nodes, counted twice: ${savedTwice}, lost or mixed: ${unsaved}`);
  for (const database of databases) await database.close();
}

try {
  for (const [at, folder] of folders.entries()) {
    const nodes = [...cluster.nodes.slice(at), ...cluster.nodes.slice(0, at)].join(',');
    replicas.push(
      await startService({
        databaseUrl: cluster.url(at),
        masterKey,
        folder,
        ...(replicas[0] ? { publicUrl: replicas[0].url } : {}),
        environment: { RUSTY_KETTLE_DATABASE_NODES: nodes, RUSTY_KETTLE_LOG_LEVEL: 'warn' },
      }),
    );
    if (at === 0) await signIn(replicas[0] as ServiceUnderTest);
  }
  await races([0, 1], 'all nodes up');
  const call = await signIn(replicas[0] as ServiceUnderTest);
  await addEelgrass(call, standin);
  const names = ['one', 'two', 'three', 'four'];
  for (const name of names) {
    await addConnection(call, name);
    await agree(call, name);
  }
  const caller = await call('addCaller', { body: { name: 'galera', connections: names } });
  const publicUrl = replicas[0]?.url;
  const ask = (replica: ServiceUnderTest, name: string) => fetchToken(replica.url, caller.caller_id, caller.key, `${publicUrl}/connections/${name}`);
  const everywhere = async (name: string, status: number): Promise<number> => {
    const startedAt = Date.now();
    await Promise.all(replicas.map((replica) => eventually(async () => (await ask(replica, name)).status === status, 10_000, `${status} for ${name}`)));
    return Date.now() - startedAt;
  };
  await everywhere('one', 200);
  const renewed = async () => (await call('listConnections')).items.reduce((sum, one) => sum + one.renewals, 0);
  const refreshed = async () => (await standin.counters()).refreshes.reduce((sum, one) => sum + one.refreshes, 0);
  const before = [await renewed(), await refreshed()] as const;
  await sleep(12_000);
  await eventually(async () => (await renewed()) - before[0] === (await refreshed()) - before[1], 10_000, 'as many saved as sent');
  const count = (await renewed()) - before[0];
  line(count >= 6, `three replicas, a node each, renewed ${count} times: one request for each`);
  await call('pauseConnection', { params: { connection: 'one' } });
  const pausedMs = await everywhere('one', 400);
  line(pausedMs <= 1_000, `a pause took effect on every replica within ${pausedMs} ms`);
  await call('changeCaller', { params: { caller: 'galera' }, body: { connections: ['two', 'three'] } });
  const withdrawnMs = await everywhere('four', 400);
  line(withdrawnMs <= 1_000, `a withdrawn permission took effect on every replica within ${withdrawnMs} ms`);

  cluster.kill(0);
  const killedAt = Date.now();
  const second = await signIn(replicas[1] as ServiceUnderTest);
  const renewedBySecond = async () => (await second('showConnection', { params: { connection: 'two' } })).renewals;
  const known = await eventually(renewedBySecond, 30_000);
  await eventually(async () => (await renewedBySecond()) > known, 60_000, 'a renewal after a node was killed');
  line(true, `a node killed: renewals went on after ${((Date.now() - killedAt) / 1000).toFixed(1)} s`);
  for (const replica of replicas) await eventually(async () => (await ask(replica, 'two')).status === 200, 30_000, 'issued tokens from every replica');
  line(true, 'the replica whose node was killed writes to another one and issues tokens');
  await races([1, 2], 'one node killed');
  const states = (await second('listConnections')).items.map((one) => `${one.name} ${one.state}`);
  line(!states.some((one) => one.includes('action_needed')), `nothing was lost: ${states.join(', ')}`);
  await second('retireKey', { params: { caller: 'galera', key: (await second('showCaller', { params: { caller: 'galera' } })).keys[0]?.id ?? '' } });
  const retiredMs = await everywhere('two', 401);
  line(retiredMs <= 1_000, `a retired key was rejected by every replica within ${retiredMs} ms`);
} catch (error) {
  line(false, error instanceof Error ? error.message : String(error));
} finally {
  for (const replica of replicas) await replica.kill();
  await standin.stop();
  await cluster.stop();
  for (const folder of folders) removeFolder(folder);
}
process.exit(failed === 0 ? 0 : 1);
