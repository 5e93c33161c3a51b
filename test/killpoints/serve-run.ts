import { startService } from '../../src/service/main.ts';
import { readSettings } from '../../src/service/settings.ts';
import type { RunStore } from '../../src/service/store/runs.ts';

/** `rk serve` that kills itself at one point of a run: KILL_AT names it, KILL_AFTER how often it passes before. */
const [point, after] = [process.env.KILL_AT ?? '', Number(process.env.KILL_AFTER ?? 0)];
let passed = 0;
const die = (here: string): void => {
  if (here !== point) return;
  passed += 1;
  if (passed > after) process.kill(process.pid, 'SIGKILL');
};

/** Dies before or after a method has done its work. */
const around =
  <Args extends unknown[], T>(work: (...args: Args) => Promise<T>, name: string) =>
  async (...args: Args): Promise<T> => {
    die(`before_${name}`);
    const done = await work(...args);
    die(`after_${name}`);
    return done;
  };

const killed = (store: RunStore): RunStore => ({
  ...store,
  claim: around(store.claim, 'claim'),
  savePage: around(store.savePage, 'page'),
  discardPages: around(store.discardPages, 'discard'),
  wait: around(store.wait, 'wait'),
  saveFile: around(store.saveFile, 'file'),
  finish: around(store.finish, 'finish'),
});

const { KILL_AT: _at, KILL_AFTER: _after, ...environment } = process.env;
const running = await startService(readSettings(environment), { runs: killed });
process.on('SIGTERM', () => void running.stop().then(() => process.exit(0)));
