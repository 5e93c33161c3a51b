import { openSeeder } from '../testing/seed.ts';
import { alternate } from './alternate.ts';
import { startChild } from './child.ts';
import { renewedInSlice } from './renewals.ts';
import { CLIENT, type Measured, startRig } from './rig.ts';

const PEOPLE = 100_000;
const SLICES = 10;
const HOUR_MS = 3_600_000;
/** Which renewals are due in a slice: so many, of people or of connections that are nobody's. */
const DUE = 8_000;
const meant = (which: 'IS NULL' | 'IS NOT NULL'): string =>
  `WHERE grant_id IN (SELECT g FROM (SELECT current_grant_id AS g FROM connections WHERE person_of ${which} AND current_grant_id IS NOT NULL LIMIT ${DUE}) due)`;

/** A person's grant is renewed like any other: renewals a second, with a hundred thousand of each in the database. */
export async function benchPeople(databaseUrl: string): Promise<Measured[]> {
  const provider = await startChild('bare-token-endpoint.ts');
  const limits = { RUSTY_KETTLE_CONCURRENCY: '64', RUSTY_KETTLE_ORIGIN_CONCURRENCY: '64', RUSTY_KETTLE_CLIENT_CONCURRENCY: '64' };
  const rig = await startRig(databaseUrl, provider.port, limits);
  const seeder = await openSeeder(databaseUrl, rig.masterKey);
  try {
    await rig.call('addConnection', { body: { name: 'shared', shared: true, ...CLIENT, scopes: ['tables.read', 'offline_access'] } });
    const [row] = await seeder.database.select<{ id: string }>("SELECT LOWER(HEX(id)) AS id FROM connections WHERE name = 'shared'");
    const sharedId = (row?.id ?? '').replace(/^(.{8})(.{4})(.{4})(.{4})/, '$1-$2-$3-$4-');
    const now = Date.now();
    const life = { issuedAt: now, expiresAt: now + HOUR_MS, nextAt: now + 24 * HOUR_MS };
    const numbered = Array.from({ length: PEOPLE }, (_none, n) => n);
    await seeder.add(
      CLIENT,
      numbered.map((n) => ({ ...life, name: `s${n}`, access: `a.s${n}`, refresh: `r.s${n}` })),
    );
    const code = (n: number): string => n.toString(36).padStart(16, '0');
    await seeder.add(
      CLIENT,
      numbered.map((n) => ({ ...life, name: `shared@${code(n)}`, access: `a.p${n}`, refresh: `r.p${n}`, person: { sharedId, key: `member-${n}` } })),
    );
    await seeder.settled();
    const compared = await alternate({
      what: 'people',
      ours: () => renewedInSlice(seeder, meant('IS NOT NULL')),
      theirs: () => renewedInSlice(seeder, meant('IS NULL')),
      slices: SLICES,
      warmUp: 2,
    });
    return [
      {
        key: 'people',
        what: `renewals per second, ${PEOPLE.toLocaleString('en-US')} people on one shared connection`,
        ours: `${Math.round(compared.ours)}/s`,
        against: `${PEOPLE.toLocaleString('en-US')} connections of their own ${Math.round(compared.theirs)}/s`,
        ratio: compared,
        target: '\u2265 0.95',
        holds: compared.ratio >= 0.95,
      },
    ];
  } finally {
    await seeder.close();
    await rig.service.stop();
    provider.stop();
  }
}
