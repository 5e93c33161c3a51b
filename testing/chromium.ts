import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { type BrowserContext, chromium } from 'playwright-core';

export interface OpenBrowser {
  context: BrowserContext;
  close(): Promise<void>;
}

/** Debian's headless Chromium with a fresh profile, at 1280x800. */
export async function openBrowser(options: { dark?: boolean } = {}): Promise<OpenBrowser> {
  const profile = mkdtempSync(join(tmpdir(), 'rk-browser-'));
  const context = await chromium.launchPersistentContext(profile, {
    executablePath: '/usr/bin/chromium',
    headless: true,
    viewport: { width: 1280, height: 800 },
    colorScheme: options.dark ? 'dark' : 'light',
    args: [
      '--no-sandbox',
      '--disable-gpu',
      '--disable-quic',
      '--no-first-run',
      '--disable-background-networking',
      '--disable-component-update',
      '--disable-sync',
    ],
  });
  context.setDefaultTimeout(60_000);
  return {
    context,
    async close() {
      await context.close();
      rmSync(profile, { recursive: true, force: true });
    },
  };
}
