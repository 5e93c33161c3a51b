import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { localiseText } from '../src/core/provider/rehearsal.ts';
import { builtRelease, fromRelease, RELEASES, type Release } from '../testing/releases.ts';
import { openSeeder, type Seeder } from '../testing/seed.ts';
import { newFolder, newMasterKey, removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { alternate, type Compared } from './alternate.ts';
import { startChild } from './child.ts';
import { relayRate } from './relay.ts';
import { renewedInSlice } from './renewals.ts';
import { LIMITS, type Measured, type Rig, setUp } from './rig.ts';
import { permitFresh, tokenRate } from './tokens.ts';

const SLICES = 14;
const CONNECTIONS = 2_000;
const LANES = { RUSTY_KETTLE_CONCURRENCY: '64', RUSTY_KETTLE_ORIGIN_CONCURRENCY: '64', RUSTY_KETTLE_CLIENT_CONCURRENCY: '64' };
/** Less is a step back; closer to 1 than that, a quiet machine differs from itself. */
const LEAST = 0.9;

interface Side {
  service: ServiceUnderTest;
  seeder: Seeder;
  permitted: Awaited<ReturnType<typeof permitFresh>>;
}

/** The hot paths of this version beside each earlier release, in slices that alternate, each over a database of its own. */
export async function benchVersions(_databaseUrl: string, another: () => Promise<string>): Promise<Measured[]> {
  const measured: Measured[] = [];
  const given = process.argv.slice(2).filter((one) => one.includes('='));
  for (const release of RELEASES)
    if (given.length === 0 || given.some((one) => one.startsWith(`${release.name}=`)))
      measured.push(...(await against(release, [await another(), await another()])));
  return measured;
}

async function against(release: Release, [ourDatabase, theirDatabase]: readonly [string, string]): Promise<Measured[]> {
  const buildFolder = newFolder();
  const folder = builtRelease(release, process.argv.slice(2), buildFolder);
  const [provider, api] = [await startChild('bare-token-endpoint.ts'), await startChild('bare-api.ts')];
  const sides: Side[] = [];
  try {
    const text = (source: string) =>
      localiseText(readFileSync(source, 'utf8'), api.port)
        .replace('most: 100000', 'most: 1000000000')
        .replace(/token_endpoint: .*/, `token_endpoint: http://127.0.0.1:${provider.port}/token`);
    const ours = await side({ startService, signIn }, ourDatabase, text(new URL('../definitions/eelgrass.yaml', import.meta.url).pathname));
    sides.push(ours);
    const helpers = await fromRelease<Helpers>(folder, 'testing/service.ts');
    const theirs = await side(helpers, theirDatabase, text(join(folder, 'definitions/eelgrass.yaml')), [join(folder, 'dist/cli/main.js'), 'serve']);
    sides.push(theirs);
    const compare = (what: string, of: (side: Side) => Promise<number>) =>
      alternate({ what: `${what}, ${release.name}`, ours: () => of(ours), theirs: () => of(theirs), slices: SLICES, warmUp: 3 });
    return [
      row(release, 'tokens', 'tokens issued per second', await compare('tokens issued', tokensOf)),
      row(release, 'relay', 'relayed calls per second', await compare('relay', relayOf)),
      row(release, 'renewals', 'renewals per second', await compare('renewals', ({ seeder }) => renewedInSlice(seeder))),
    ];
  } finally {
    for (const side of sides) {
      await side.seeder.close();
      await side.service.stop();
    }
    provider.stop();
    api.stop();
    removeFolder(buildFolder);
  }
}

const tokensOf = ({ service, permitted }: Side): Promise<number> => tokenRate({ url: service.url, requests: permitted.requests });
const relayOf = ({ service, permitted }: Side): Promise<number> =>
  relayRate(
    service.url,
    permitted.names.slice(0, 100).map((name) => `/relay/${name}/tables?limit=20`),
    permitted.requests[0]?.headers.authorization ?? '',
  );

const row = (release: Release, key: string, what: string, compared: Compared): Measured => ({
  key: `${key} beside ${release.name}`,
  what: `${what}, beside ${release.name}`,
  ours: `${Math.round(compared.ours)}/s`,
  against: `${release.name}: ${Math.round(compared.theirs)}/s`,
  ratio: compared,
  target: `\u2265 ${LEAST}`,
  holds: compared.ratio >= LEAST,
});

async function seeded(rig: Rig, databaseUrl: string): Promise<Omit<Side, 'service'>> {
  const seeder = await openSeeder(databaseUrl, rig.masterKey);
  const permitted = await permitFresh(rig, seeder, 'v', CONNECTIONS, 400);
  await seeder.settled();
  return { seeder, permitted };
}

type Helpers = Pick<typeof import('../testing/service.ts'), 'startService' | 'signIn'>;

/**
 * A version sets itself up; this one upgrades the database and fills it; then the version begins anew, so that both sides have an equally
 * young process.
 */
async function side(helpers: Helpers, databaseUrl: string, document: string, run?: string[]): Promise<Side> {
  const masterKey = newMasterKey();
  const folder = newFolder();
  const start = (port?: number) =>
    helpers.startService({
      ...{ databaseUrl, masterKey, folder, ...(port === undefined ? {} : { port }), ...(run ? { run } : {}) },
      environment: { ...LIMITS, ...LANES },
    });
  const first = await start();
  await setUp(await helpers.signIn(first), document);
  await first.stop();
  const filling = await startService({ databaseUrl, masterKey, publicUrl: first.url, environment: LIMITS });
  const filled = await seeded({ service: { ...filling, url: first.url }, call: await signIn(filling), masterKey }, databaseUrl);
  await filling.stop();
  return { service: await start(Number(new URL(first.url).port)), ...filled };
}
