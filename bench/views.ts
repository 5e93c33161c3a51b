import { setTimeout as sleep } from 'node:timers/promises';
import { openSeeder } from '../testing/seed.ts';
import { alternate } from './alternate.ts';
import { CLIENT, type Measured, type Rig, say, startRig, timed } from './rig.ts';

const [FEW, MANY] = [100, 100_000];
const ROUNDS = 15;
const HOUR_MS = 3_600_000;
/** After a change of all connections at once, searches are the database's for so long (store/connection-search.ts). */
const TEXTS_READ_AFTER_MS = 20_000;

/** What an operator's pages ask for; each wants an answer while someone waits. */
const VIEWS: [what: string, ask: (rig: Rig) => Promise<unknown>][] = [
  ['status', ({ call }) => call('showStatus')],
  ['first 50 connections', ({ call }) => call('listConnections', { query: { limit: 50 } })],
  ['search with 50 hits', ({ call }) => call('listConnections', { query: { search: 'BENCH', limit: 50 } })],
  ['search with one hit', ({ call }) => call('listConnections', { query: { search: 'view-77-', limit: 50 } })],
  ['filter by a rare state', ({ call }) => call('listConnections', { query: { state: 'action_needed', limit: 50 } })],
  ['a connection', ({ call }) => call('showConnection', { params: { connection: 'view-77-x' } })],
  ['the client of all', ({ call }) => call('showClient', { params: CLIENT })],
  ['clients', ({ call }) => call('listClients')],
  ['providers', ({ call }) => call('listProviders')],
  ['a caller of all', ({ call }) => call('showCaller', { params: { caller: 'board' } })],
];

async function startWith(databaseUrl: string, connections: number): Promise<Rig> {
  const rig = await startRig(databaseUrl, 1);
  await rig.call('addCaller', { body: { name: 'board' } });
  const seeder = await openSeeder(databaseUrl, rig.masterKey);
  const now = Date.now();
  const life = { issuedAt: now, expiresAt: now + 48 * HOUR_MS, nextAt: now + 24 * HOUR_MS };
  await seeder.add(
    CLIENT,
    Array.from({ length: connections }, (_one, n) => ({ name: `view-${n}-x`, access: 'a', refresh: 'r', ...life })),
  );
  await seeder.database.write("INSERT INTO connection_labels (connection_id, label) SELECT id, 'fleet' FROM connections");
  await rig.call('permitCaller', { params: { caller: 'board' }, body: { label: 'fleet' } });
  await seeder.database.write("UPDATE renewals SET next_at = NULL, cause = 'refused' ORDER BY grant_id LIMIT 3"); // these need someone
  await seeder.settled();
  say(`views: the states of ${connections} connections were worked out ${Math.round((Date.now() - now) / 1000)} s after seeding began`);
  await seeder.close();
  await sleep(TEXTS_READ_AFTER_MS);
  await rig.call('listConnections', { query: { search: 'view', limit: 1 } }); // from here on, what can be searched is read into memory
  return rig;
}

/** The same views over a hundred and over a hundred thousand connections, in turns. */
export async function benchViews(databaseUrl: string, another: () => Promise<string>): Promise<Measured[]> {
  const [few, many] = [await startWith(databaseUrl, FEW), await startWith(await another(), MANY)];
  try {
    const measured: Measured[] = [];
    for (const [what, ask] of VIEWS) {
      const compared = await alternate({ what, ours: () => timed(() => ask(many)), theirs: () => timed(() => ask(few)), slices: ROUNDS });
      measured.push({
        key: `view: ${what}`,
        what: `${what}, ${MANY.toLocaleString('en')} connections`,
        ours: `${compared.ours.toFixed(0)} ms`,
        against: `${FEW}: ${compared.theirs.toFixed(0)} ms`,
        ratio: compared,
        target: '\u2264 2 \u00d7, < 300 ms',
        holds: compared.ours < 300 && compared.ratio <= 2,
      });
    }
    return measured;
  } finally {
    await few.service.stop();
    await many.service.stop();
  }
}
