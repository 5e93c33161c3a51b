import { startPrivateMariadb } from '../src/service/database/private-mariadb.ts';
import { newDatabaseOn } from '../testing/new-database-on.ts';
import { newFolder, removeFolder } from '../testing/service.ts';
import { benchJobs } from './jobs.ts';
import { benchPeople } from './people.ts';
import { benchProcesses } from './processes.ts';
import { benchRelay } from './relay.ts';
import { benchClaims, benchRenewals } from './renewals.ts';
import { writeReport } from './report.ts';
import { type Measured, say } from './rig.ts';
import { benchConsole, benchStartup } from './startup.ts';
import { benchMemory, benchPause, benchTokens } from './tokens.ts';
import { benchVersions } from './versions.ts';
import { benchViews } from './views.ts';

/** `npm run bench`: measures everything in one run on one machine, and writes docs/BENCHMARKS.md with its chart. */
const parts: [name: string, run: (databaseUrl: string, another: () => Promise<string>) => Promise<Measured[]>][] = [
  ['start', benchStartup],
  ['console', benchConsole],
  ['tokens', benchTokens],
  ['processes', benchProcesses],
  ['relay', benchRelay],
  ['renewals', (databaseUrl) => benchRenewals(databaseUrl)],
  ['people', (databaseUrl) => benchPeople(databaseUrl)],
  ['jobs', (databaseUrl) => benchJobs(databaseUrl)],
  ['claims', benchClaims],
  ['views', benchViews],
  ['memory', (databaseUrl) => benchMemory(databaseUrl)],
  ['pause', (databaseUrl) => benchPause(databaseUrl)],
  ['versions', benchVersions],
];
/** Some parts only; `NAME=FOLDER` is an earlier release that is built already. */
const only = process.argv.slice(2).filter((one) => !one.includes('='));
const folder = newFolder();
const server = await startPrivateMariadb({ folder });
const measured: Measured[] = [];
try {
  for (const [name, run] of parts) {
    if (only.length > 0 && !only.includes(name)) continue;
    say(`measuring ${name}\u2026`);
    const rows = await run(await newDatabaseOn(server.url), () => newDatabaseOn(server.url));
    for (const row of rows)
      say(
        `  ${row.holds ? 'holds' : 'MISSES'}  ${row.what}: ${row.ours} (${row.against}${row.ratio === null ? '' : `, ${row.ratio.ratio.toFixed(2)} \u00d7`}; target ${row.target})`,
      );
    measured.push(...rows);
  }
} finally {
  await server.stop();
  removeFolder(folder);
}
if (only.length === 0) {
  await writeReport(measured);
  say('written to docs/BENCHMARKS.md');
}
process.exit(measured.every((one) => one.holds) ? 0 : 1);
