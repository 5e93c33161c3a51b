import type { Send } from '../../src/core/oauth/wire.ts';
import { startService } from '../../src/service/main.ts';
import { readSettings } from '../../src/service/settings.ts';

/** `rk serve` on a machine whose clock is wrong, and whose requests say which life of which replica sent them. */
const [name = '', skewText = '0'] = process.argv.slice(2);
const skewMs = Number(skewText);
const honest = Date.now.bind(Date);
Date.now = () => honest() + skewMs;

const running = await startService(readSettings(process.env), {
  send:
    (next): Send =>
    (request) =>
      next({ ...request, headers: { ...request.headers, 'x-sender': name } }),
});
process.once('SIGTERM', () => void running.stop().then(() => process.exit(0)));
