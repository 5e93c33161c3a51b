import { appendFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Send } from '../../src/core/oauth/wire.ts';
import { startService } from '../../src/service/main.ts';
import { readSettings } from '../../src/service/settings.ts';
import { SENDS } from './providers.ts';

/** `rk serve` on a machine whose clock is wrong, and whose requests say which life of which replica sent them. */
const [name = '', skewText = '0'] = process.argv.slice(2);
const skewMs = Number(skewText);
const honest = Date.now.bind(Date);
Date.now = () => honest() + skewMs;

/** Which of our requests were answered and which were given up: what a judge needs to know who holds an answer. */
const log = join(process.env.RUSTY_KETTLE_DATA_FOLDER ?? '', SENDS);
let sent = 0;
const running = await startService(readSettings(process.env), {
  send:
    (next): Send =>
    async (request) => {
      sent += 1;
      const id = `${name}:${sent}`;
      const outcome = await next({ ...request, headers: { ...request.headers, 'x-sender': name, 'x-send': id } });
      appendFileSync(log, `${id} ${outcome.kind === 'answer' ? 'got' : 'gone'}\n`);
      return outcome;
    },
});
process.once('SIGTERM', () => void running.stop().then(() => process.exit(0)));
