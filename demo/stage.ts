import { setTimeout as sleep } from 'node:timers/promises';
import type { ApiClient } from '../src/api/client.ts';
import { playOpened } from '../src/standins/visitor.ts';

/** The demo's own sign-in. It exists nowhere else. */
export const DEMO_OPERATOR = 'marit';
export const DEMO_PASSWORD = 'low-water-demo';
export interface Harbour {
  folder: string;
  url: string;
  standinUrl: string;
  /** Berthline, the harbour bookings, in its northern region. */
  berthlineUrl: string;
  /** The stand-ins of the other providers, by name: where their definitions and APIs answer. */
  others: Record<string, string>;
  definitionFile: string;
  environment: Record<string, string>;
  stop(): Promise<void>;
}

export async function agree(call: ApiClient, connection: string, account: string, body: { prepare?: boolean } = {}): Promise<void> {
  const opened = await call('openConnection', { params: { connection }, body });
  if (!opened.by_itself) await playOpened(opened, (consent, pasted) => call('answerConsent', { params: { consent }, body: { pasted } }), { account });
  await finished(call, opened.id);
}

/** Waits until a consent came to its end. @throws where it failed */
export async function finished(call: ApiClient, consent: string): Promise<void> {
  for (let tries = 0; tries < 100; tries += 1, await sleep(100)) {
    const outcome = await call('showConsent', { params: { consent } });
    if (outcome.phase === 'failed') throw new Error(`the demo's consent failed: ${outcome.problem?.title} ${outcome.problem?.evidence ?? ''}`);
    if (outcome.phase === 'done') return;
  }
}
