import { startPrivateMariadb } from '../../src/service/database/private-mariadb.ts';
import { newDatabaseOn } from '../../testing/new-database-on.ts';
import { newFolder, removeFolder } from '../../testing/service.ts';
import { buildTestPrograms } from '../../testing/test-programs.ts';
import { happens, KINDS, type Played, POINTS, type Point, playKillPoint } from './play.ts';

/** `npm run killpoints`: one line for each point and kind of provider; exits non-zero when one is not as docs/RENEWAL.md says. */
buildTestPrograms();
const folder = newFolder();
const server = await startPrivateMariadb({ folder });
const all = KINDS.flatMap((kind) => (Object.keys(POINTS) as Point[]).filter((point) => happens(kind, point)).map((point) => ({ kind, point })));
const results: Played[] = [];
const print = ({ kind, point, wanted, seen, tookMs, reuse }: Played) =>
  process.stdout.write(
    `${seen === wanted ? 'ok  ' : 'FAIL'} ${kind.padEnd(7)} ${point.padEnd(20)} ${seen.padEnd(16)} after ${(tookMs / 1000).toFixed(1)} s${seen === wanted ? '' : `, wanted: ${wanted}`}${reuse > 0 ? `, second uses: ${reuse}` : ''}\n`,
  );

/** Two at a time: there are two cores. */
async function worker(): Promise<void> {
  for (let next = all.shift(); next; next = all.shift()) {
    const { kind, point } = next;
    const played = await playKillPoint(kind, point, await newDatabaseOn(server.url)).catch(
      (error: Error): Played => ({ kind, point, wanted: POINTS[point][kind], seen: `error: ${error.message}`, tookMs: 0, reuse: 0 }),
    );
    results.push(played);
    print(played);
  }
}
try {
  await Promise.all([worker(), worker()]);
} finally {
  await server.stop();
  removeFolder(folder);
}
const wrong = results.filter((one) => one.seen !== one.wanted).length;
process.stdout.write(`${results.length - wrong} as the table shows, ${wrong} not\n`);
process.exit(wrong === 0 ? 0 : 1);
