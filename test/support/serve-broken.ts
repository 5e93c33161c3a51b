import { startService } from '../../src/service/main.ts';
import { readSettings } from '../../src/service/settings.ts';

/** `rk serve` whose requests to addresses that hold the word on the command line end in an error of its own, as a fault in the code would. */
const [word = ''] = process.argv.slice(2);
const running = await startService(readSettings(process.env), {
  send: (next) => async (request) => {
    if (request.url.includes(word)) throw new TypeError('broken on purpose');
    return next(request);
  },
});
process.once('SIGTERM', () => void running.stop().then(() => process.exit(0)));
