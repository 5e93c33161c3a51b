import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Send } from '../../src/core/oauth/wire.ts';
import type { TestHooks } from '../../src/service/composition/test-hooks.ts';
import { startService } from '../../src/service/main.ts';
import type { Spill } from '../../src/service/renewal/spill.ts';
import { readSettings } from '../../src/service/settings.ts';
import type { RenewalStore } from '../../src/service/store/renewals.ts';

/** `rk serve` with ports that end the process, as a power cut would, at the point named on the command line. */
const [point = ''] = process.argv.slice(2);
const never = new Promise<never>(() => undefined);
const die = (): Promise<never> => {
  process.kill(process.pid, 'SIGKILL');
  return never;
};
const at = (...names: string[]): boolean => names.includes(point);
const isFor = (body: string | undefined, grantType: string): boolean => body?.includes(`grant_type=${grantType}`) ?? false;

const testHooks: TestHooks = {
  send:
    (next): Send =>
    async (request) => {
      const refresh = isFor(request.body, 'refresh_token');
      if (refresh && at('bytes_left')) setTimeout(() => void die(), 500); // the stand-in holds its answer for longer
      const outcome = await next(request);
      if (refresh && at('answer_arrived')) return die();
      if (isFor(request.body, 'authorization_code') && at('code_answer')) return die();
      return outcome;
    },
  store: (next): RenewalStore => ({
    ...next,
    async update(ids, transition) {
      const took = await next.update(ids, transition);
      return took > 0 && transition.name === 'claim' && at('after_claim') ? die() : took;
    },
    async arm(...args) {
      const took = await next.arm(...args);
      return took && at('after_arm') ? die() : took;
    },
    async save(...args) {
      if (at('spill_torn', 'spill_renamed', 'spill_owner_down')) return never; // the database does not answer
      if (at('saved_before_unlink')) await new Promise((resolve) => setTimeout(resolve, 600)); // long enough for a spill
      const saved = await next.save(...args);
      return at('save_committed') ? die() : saved;
    },
    async insert(...args) {
      if (at('code_spilled')) return never;
      return next.insert(...args);
    },
  }),
  spill: (next): Spill => ({
    ...next,
    async write(answer) {
      if (at('spill_torn')) {
        writeFileSync(join(process.env.RUSTY_KETTLE_DATA_FOLDER ?? '', 'spill', `${answer.grantId}-${answer.epoch}.tmp`), Buffer.from([1, 2, 3]));
        return die();
      }
      await next.write(answer);
      if (at('spill_renamed', 'spill_owner_down', 'code_spilled')) return die();
    },
    async remove(answer) {
      if (at('saved_before_unlink')) void die();
      return next.remove(answer);
    },
  }),
};

const running = await startService(readSettings(process.env), testHooks);
process.once('SIGTERM', () => void running.stop().then(() => process.exit(0)));
