import { execFile } from 'node:child_process';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { openSeeder } from '../testing/seed.ts';
import { newFolder, removeFolder } from '../testing/service.ts';
import { alternate } from './alternate.ts';
import { type Measured, type Rig, startRig } from './rig.ts';
import { permitFresh } from './tokens.ts';

const SLICES = 12;
const SECONDS = 2;
const CONNECTIONS = 64;
const TOKENS = 500;

interface Side {
  rig: Rig;
  script: string;
}

/** Requests of a caller in turn, in the language of wrk. */
const scriptOf = (requests: { headers: Record<string, string>; body: string }[]): string => `
local bodies = { ${requests.map((one) => JSON.stringify(one.body)).join(', ')} }
local at = 0
wrk.method = "POST"
wrk.headers["authorization"] = ${JSON.stringify(requests[0]?.headers.authorization)}
wrk.headers["content-type"] = "application/x-www-form-urlencoded"
function request()
  at = at % #bodies + 1
  return wrk.format(nil, "/oauth/token", nil, bodies[at])
end
`;

/** Tokens a second under a load that takes a small part of one core; any that is rejected or breaks off ends the measuring. */
async function rateOf({ rig, script }: Side): Promise<number> {
  const { stdout } = await promisify(execFile)('wrk', ['-t1', `-c${CONNECTIONS}`, `-d${SECONDS}s`, '-s', script, rig.service.url]);
  if (/Non-2xx|Socket errors/.test(stdout)) throw new Error(stdout);
  return Number(/Requests\/sec:\s+([\d.]+)/.exec(stdout)?.[1]);
}

/** One process beside two that serve one port, on whatever cores there are. */
export async function benchProcesses(databaseUrl: string, another: () => Promise<string>): Promise<Measured[]> {
  const folder = newFolder();
  const start = async (processes: number, database: string): Promise<Side> => {
    const rig = await startRig(database, 9, { RUSTY_KETTLE_PROCESSES: String(processes) });
    const seeder = await openSeeder(database, rig.masterKey);
    const { requests } = await permitFresh(rig, seeder, 'p', TOKENS, 400);
    await seeder.settled();
    await seeder.close();
    const script = join(folder, `${processes}.lua`);
    writeFileSync(script, scriptOf(requests));
    return { rig, script };
  };
  const [one, two] = [await start(1, databaseUrl), await start(2, await another())];
  try {
    const compared = await alternate({ what: 'two processes', ours: () => rateOf(two), theirs: () => rateOf(one), slices: SLICES, warmUp: 3 });
    return [
      {
        key: 'processes',
        what: 'tokens issued per second, two processes on two cores',
        ours: `${Math.round(compared.ours)}/s`,
        against: `one process ${Math.round(compared.theirs)}/s`,
        ratio: compared,
        target: '\u2265 1.7 \u00d7',
        holds: compared.ratio >= 1.7,
      },
    ];
  } finally {
    await one.rig.service.stop();
    await two.rig.service.stop();
    removeFolder(folder);
  }
}
