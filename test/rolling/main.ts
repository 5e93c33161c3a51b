import { join } from 'node:path';
import { freePort, startPrivateMariadb } from '../../src/service/database/private-mariadb.ts';
import { newDatabaseOn } from '../../testing/new-database-on.ts';
import { builtRelease, builtWithOneMigrationMore, fromRelease, RELEASES, REPOSITORY } from '../../testing/releases.ts';
import { newFolder, newMasterKey, removeFolder, type ServiceUnderTest, signIn, startService } from '../../testing/service.ts';
import { eventually } from '../../testing/waiting.ts';
import { fetchToken } from '../support/harbour.ts';

/**
 * `npm run rolling`: a version that runs is upgraded by a replica of a newer one beside it; both renew the same connections, then the newer one
 * alone, then the former one alone again, on the upgraded database. One line for each rule; non-zero when one fails. The previous version is
 * upgraded by this one, and this one by itself with one migration more. It builds the previous version from this repository's history;
 * `npm run rolling -- NAME=FOLDER` takes one that is built already.
 */
const ROUND_MS = 12_000;
const NAMES = ['a', 'b', 'c', 'd', 'e', 'f'];
let [kept, failed] = [0, 0];
const line = (good: boolean, what: string): void => {
  if (good) kept += 1;
  else failed += 1;
  process.stdout.write(`${good ? 'ok  ' : 'FAIL'} ${what}\n`);
};

async function roll({ name, folder, newer }: { name: string; folder: string; newer: string }): Promise<void> {
  const [databaseFolder, ...folders] = [newFolder(), newFolder(), newFolder(), newFolder()];
  const harbour = await fromRelease<typeof import('../support/harbour.ts')>(folder, 'test/support/harbour.ts');
  const helpers = await fromRelease<typeof import('../../testing/service.ts')>(folder, 'testing/service.ts');
  const server = await startPrivateMariadb({ folder: databaseFolder, port: await freePort() });
  const [eelgrass, berthline] = [await harbour.startEelgrass(4), await harbour.startBerthline(4)];
  const shared = { databaseUrl: await newDatabaseOn(server.url), masterKey: newMasterKey() };
  const former = (data: string, port?: number) =>
    helpers.startService({ ...shared, folder: data, ...(port ? { port } : {}), run: [join(folder, 'dist/cli/main.js'), 'serve'] });
  let services: ServiceUnderTest[] = [];
  const renewals = async () => {
    const all = (await Promise.all([eelgrass.counters(), berthline.counters()])).flatMap((one) => one.refreshes);
    return { count: all.reduce((sum, one) => sum + one.refreshes, 0), withdrawn: all.filter((one) => one.withdrawn).length };
  };
  let [caller, publicUrl] = [{ caller_id: '', key: '' }, ''];
  /** Callers ask for a while, each replica in turn. */
  const round = async (title: string, of: readonly ServiceUnderTest[]): Promise<void> => {
    const before = await renewals();
    const until = Date.now() + ROUND_MS;
    let tokens = 0;
    const refused: string[] = [];
    while (Date.now() < until)
      for (const service of of)
        for (const name of NAMES) {
          const { status, body } = await fetchToken(service.url, caller.caller_id, caller.key, `${publicUrl}/connections/${name}`);
          if (status === 200) tokens += 1;
          else refused.push(`${of.indexOf(service)}: ${status} ${String(body.error)}`);
        }
    const after = await renewals();
    line(refused.length === 0, `${name}, ${title}: ${tokens} tokens, ${refused.length} rejected ${[...new Set(refused)].slice(0, 3).join('; ')}`);
    line(after.count > before.count && after.withdrawn === 0, `${name}, ${title}: ${after.count - before.count} renewals, ${after.withdrawn} grants lost`);
  };
  try {
    const first = await former(folders[0] ?? '');
    services = [first];
    publicUrl = first.url;
    const call = await helpers.signIn(first);
    await harbour.addEelgrass(call, eelgrass);
    await call('addProvider', { body: { document: berthline.definitionText } });
    await harbour.addClient(call, berthline, 'harbour', { provider: 'berthline', placeholders: { region: 'north' } });
    for (const [at, connection] of NAMES.entries()) {
      if (at % 2 === 0) await harbour.addConnection(call, connection);
      else await call('addConnection', { body: { name: connection, provider: 'berthline', client: 'harbour', scopes: ['bookings.read'] } });
      await harbour.agree(call, connection);
    }
    caller = await call('addCaller', { body: { name: 'board', connections: NAMES } });
    await round('before the upgrade', [first]);

    const second = await startService({ ...shared, folder: folders[1] ?? '', publicUrl, run: [join(newer, 'dist/cli/main.js'), 'serve'] });
    services = [first, second];
    await round('both versions side by side', [first, second]);
    const today = await signIn(second);
    await today('rotateKeys');
    await eventually(async () => (await today('showKeys')).reseal?.state === 'done' || null, 60_000);
    await round('both, after a new data key and a re-seal', [first, second]);

    await first.stop();
    services = [second];
    await round('the newer version alone', [second]);

    await second.stop();
    const third = await former(folders[2] ?? '', Number(new URL(publicUrl).port));
    services = [third];
    await round('the former version again, on the upgraded database', [third]);
    const states = (await (await helpers.signIn(third))('listConnections')).items.map((one) => one.state);
    line(
      states.length === NAMES.length && states.every((one) => one === 'working'),
      `${name}: after the downgrade the connections are ${[...new Set(states)].join(', ')}`,
    );
  } finally {
    for (const one of services) await one.stop();
    await eelgrass.stop();
    await berthline.stop();
    await server.stop();
    for (const one of [databaseFolder, ...folders]) removeFolder(one);
  }
}

const buildFolder = newFolder();
for (const release of RELEASES) await roll({ name: release.name, folder: builtRelease(release, process.argv.slice(2), buildFolder), newer: REPOSITORY });
await roll({ name: 'this version', folder: REPOSITORY, newer: builtWithOneMigrationMore(buildFolder) });
removeFolder(buildFolder);
process.stdout.write(`${kept} rules hold, ${failed} failed.\n`);
process.exitCode = failed === 0 && kept > 0 ? 0 : 1;
