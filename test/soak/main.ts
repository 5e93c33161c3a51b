import { parseArgs } from 'node:util';
import { DEFAULT_LIMITS } from '../../src/core/renewal/limits.ts';
import { OWN_LIMITS } from '../../testing/service.ts';
import { buildTestPrograms } from '../../testing/test-programs.ts';
import { inWords, isClean, soak } from './soak.ts';

/** `npm run soak -- --seconds N`: with the service's own limits, as in production. Exits non-zero when something was lost. */
const { values } = parseArgs({ options: { seconds: { type: 'string', default: '300' }, connections: { type: 'string', default: '5000' } } });
const [seconds, connections] = [Number(values.seconds), Number(values.connections)];
if (!(seconds >= 20 && seconds <= 86_400 && connections >= 30 && connections <= 100_000)) {
  process.stderr.write('Give --seconds between 20 and 86400, and --connections between 30 and 100000.\n');
  process.exit(2);
}
buildTestPrograms();
const report = await soak({
  seconds,
  connections,
  lives: { least: 20, most: 60 },
  freezeMost: Math.min(45, seconds / 5),
  holderWaitMs: DEFAULT_LIMITS.holderWaitMs,
  settleMs: 360_000,
  environment: OWN_LIMITS,
  say: (text) => void process.stdout.write(`${text}\n`),
});
process.stdout.write(`${inWords(report)}\n`);
process.exit(isClean(report) ? 0 : 1);
