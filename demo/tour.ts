import { chmodSync, mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { Page } from 'playwright-core';
import { freePort } from '../src/service/database/private-mariadb.ts';
import { openBrowser } from '../testing/chromium.ts';
import { ensureOperator, OTHERS, openHarbour } from './harbour.ts';
import { rk, startBoard } from './processes.ts';
import { DEMO_OPERATOR, DEMO_PASSWORD, type Harbour } from './stage.ts';
import { playStory, type Stage } from './story.ts';

const LIFE_SECONDS = 12;

/** Plays the whole story on an installation of its own that is thrown away; prints each step. True: every step succeeded. */
export async function tour(
  say: (text: string) => void,
  options: { look?: Stage['look']; after?(harbour: Harbour, page: Page): Promise<void>; lifeSeconds?: number; others?: boolean } = {},
): Promise<boolean> {
  const folder = mkdtempSync(join(tmpdir(), 'rk-tour-'));
  chmodSync(folder, 0o711);
  const harbour = await openHarbour({
    folder,
    port: await freePort(),
    standinPort: await freePort(),
    berthlinePort: await freePort(),
    otherPorts: options.others ? Object.fromEntries(await Promise.all(OTHERS.map(async (name) => [name, await freePort()] as const))) : {},
    lifeSeconds: options.lifeSeconds ?? LIFE_SECONDS,
  });
  const browser = await openBrowser();
  let step = 0;
  try {
    const call = await ensureOperator(harbour);
    const { calls, failures } = await playStory({
      context: browser.context,
      consoleUrl: harbour.url,
      definitionFile: harbour.definitionFile,
      operator: DEMO_OPERATOR,
      password: DEMO_PASSWORD,
      rk: (args, input) => rk(args, { XDG_CONFIG_HOME: folder }, input),
      startIntegration: (settings) =>
        startBoard({ ...settings, API_URL: `http://127.0.0.1:${new URL(harbour.standinUrl).port}/v1/tables/sailings/rows?limit=2`, EVERY_MS: '1000' }),
      renewals: async (connection) => (await call('showConnection', { params: { connection } })).renewals,
      say: (what, cameBack) => {
        step += 1;
        say(`${String(step).padStart(2)}. ${what}\n    ${cameBack}`);
      },
      ...(options.look ? { look: options.look } : {}),
    });
    const [page] = browser.context.pages();
    if (options.after && page) await options.after(harbour, page);
    say(`\nThe tour is over: every step succeeded; ${calls} API calls, ${failures} failures.`);
    return true;
  } catch (error) {
    say(`\nStep ${step + 1} FAILED: ${error instanceof Error ? error.message : String(error)}`);
    return false;
  } finally {
    await browser.close();
    await harbour.stop();
    rmSync(folder, { recursive: true, force: true });
  }
}
