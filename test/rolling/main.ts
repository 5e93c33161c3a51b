import { execFileSync } from 'node:child_process';
import { existsSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath, pathToFileURL } from 'node:url';
import { freePort, startPrivateMariadb } from '../../src/service/database/private-mariadb.ts';
import { newDatabaseOn } from '../../testing/new-database-on.ts';
import { newFolder, newMasterKey, removeFolder, type ServiceUnderTest, signIn, startService } from '../../testing/service.ts';
import { eventually } from '../../testing/waiting.ts';
import { fetchToken } from '../support/harbour.ts';

/**
 * `npm run rolling`: a release that runs is upgraded by a replica of this version beside it; both renew the same connections, then this
 * version alone, then the release alone again, on the upgraded database. One line for each rule; non-zero when one fails.
 * It builds the releases from this repository's history. `npm run rolling -- NAME=FOLDER` takes one that is built already.
 */
interface Release {
  name: string;
  commit: string;
  /** Where its helpers for a service under test are. */
  helpers: string;
}
const RELEASES: readonly Release[] = [];
const ROUND_MS = 12_000;
const NAMES = ['a', 'b', 'c', 'd', 'e', 'f'];
let failed = 0;
const line = (good: boolean, what: string): void => {
  if (!good) failed += 1;
  process.stdout.write(`${good ? 'ok  ' : 'FAIL'} ${what}\n`);
};
const repository = fileURLToPath(new URL('../..', import.meta.url));

function built(release: Release, into: string): string {
  const given = process.argv.slice(2).find((one) => one.startsWith(`${release.name}=`));
  const folder = given?.slice(release.name.length + 1) ?? join(into, 'release');
  if (existsSync(join(folder, 'dist', 'cli', 'main.js'))) return folder;
  process.stdout.write(`Building ${release.name}…\n`);
  const run = (command: string, args: string[], cwd: string): void => void execFileSync(command, args, { cwd, stdio: ['ignore', 'ignore', 'inherit'] });
  run('git', ['clone', '--quiet', repository, folder], repository);
  run('git', ['checkout', '--quiet', release.commit], folder);
  run('npm', ['ci', '--silent', '--no-audit', '--no-fund'], folder);
  run('npm', ['run', '--silent', 'build'], folder);
  return folder;
}

async function roll(release: Release): Promise<void> {
  const [databaseFolder, buildFolder, ...folders] = [newFolder(), newFolder(), newFolder(), newFolder(), newFolder()];
  const folder = built(release, buildFolder);
  const their = async <T>(path: string): Promise<T> => (await import(pathToFileURL(join(folder, path)).href)) as T;
  // The set-up speaks the release's own API, as its operators did.
  const harbour = await their<typeof import('../support/harbour.ts')>('test/support/harbour.ts');
  const helpers = await their<typeof import('../../testing/service.ts')>(release.helpers);
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
    line(refused.length === 0, `${release.name}, ${title}: ${tokens} tokens, ${refused.length} rejected ${[...new Set(refused)].slice(0, 3).join('; ')}`);
    line(
      after.count > before.count && after.withdrawn === 0,
      `${release.name}, ${title}: ${after.count - before.count} renewals, ${after.withdrawn} grants lost`,
    );
  };
  try {
    const first = await former(folders[0] ?? '');
    services = [first];
    publicUrl = first.url;
    const call = await helpers.signIn(first);
    await harbour.addEelgrass(call, eelgrass);
    await call('addProvider', { body: { document: berthline.definitionText } });
    await harbour.addClient(call, berthline, 'harbour', { provider: 'berthline', placeholders: { region: 'north' } });
    for (const [at, name] of NAMES.entries()) {
      if (at % 2 === 0) await harbour.addConnection(call, name);
      else await call('addConnection', { body: { name, provider: 'berthline', client: 'harbour', scopes: ['bookings.read'] } });
      await harbour.agree(call, name);
    }
    caller = await call('addCaller', { body: { name: 'board', connections: NAMES } });
    await round('before the upgrade', [first]);

    const second = await startService({ ...shared, folder: folders[1] ?? '', publicUrl });
    services = [first, second];
    await round('both versions side by side', [first, second]);
    const today = await signIn(second);
    await today('rotateKeys');
    await eventually(async () => (await today('showKeys')).reseal?.state === 'done' || null, 60_000);
    await round('both, after a new data key and a re-seal', [first, second]);

    await first.stop();
    services = [second];
    await round('this version alone', [second]);

    await second.stop();
    const third = await former(folders[2] ?? '', Number(new URL(publicUrl).port));
    services = [third];
    await round('the release again, on the upgraded database', [third]);
    const states = (await (await helpers.signIn(third))('listConnections')).items.map((one) => one.state);
    line(
      states.length === NAMES.length && states.every((one) => one === 'working'),
      `${release.name}: after the downgrade the connections are ${[...new Set(states)].join(', ')}`,
    );
  } finally {
    for (const one of services) await one.stop();
    await eelgrass.stop();
    await berthline.stop();
    await server.stop();
    for (const one of [databaseFolder, buildFolder, ...folders]) removeFolder(one);
  }
}

for (const release of RELEASES) await roll(release);
process.stdout.write(failed === 0 ? 'All rules hold.\n' : `${failed} rules failed.\n`);
process.exitCode = failed === 0 ? 0 : 1;
