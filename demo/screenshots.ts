import { mkdirSync } from 'node:fs';
import { join } from 'node:path';
import { ROOT } from './processes.ts';
import { tour } from './tour.ts';

/** `npm run screenshots`: plays the tour and keeps a picture of each main page in docs/screenshots/ (or the folder named). */
const folder = process.argv[2] ?? join(ROOT, 'docs/screenshots');
mkdirSync(folder, { recursive: true });
const say = (text: string) => process.stdout.write(`${text}\n`);

const good = await tour(say, {
  lifeSeconds: 20,
  async look(name, page) {
    const shoot = (as: string) => page.screenshot({ path: join(folder, `${as}.png`), animations: 'disabled' });
    await page.evaluate('document.fonts.ready');
    await shoot(name);
    if (name !== 'now') return;
    // The last of them: the other pages, and the night colours.
    for (const [as, address, wait] of [
      ['connections', '#/connections', 'Open a connection'],
      ['providers', '#/providers', 'Start a client'],
      ['callers', '#/callers', 'Add a caller'],
      ['caller', '#/callers/timetable-board', 'What the integration needs'],
    ] as const) {
      await page.evaluate((hash) => location.assign(hash), address);
      await page.getByText(wait).first().waitFor();
      await page.waitForTimeout(1_200);
      await shoot(as);
    }
    await page.evaluate(() => location.assign('#/connections/sailings'));
    await page.getByText('Use it').waitFor();
    await page.getByRole('button', { name: 'Dark' }).click();
    await page.waitForTimeout(1_200);
    await shoot('connection-night');
    await page.getByRole('button', { name: 'Light' }).click();
    await page.evaluate(() => location.assign('#/'));
  },
});
process.exit(good ? 0 : 1);
