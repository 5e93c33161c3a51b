import { diagnosis } from '../../core/diagnosis/diagnosis.ts';
import { beyondRequest } from '../context.ts';
import { moveToStandby } from '../grants/index.ts';
import { emptyOutcome } from '../records/index.ts';
import type { ConsentRow, StoredOutcome } from '../store/consents.ts';
import type { ConsentRuns } from './devices.ts';
import { type Exchange, exchange } from './exchange.ts';
import { problemOf } from './outcome.ts';
import type { ConsentParts } from './parts.ts';
import type { ConsentParties } from './view.ts';

/** Exchanges that go on behind the answer to a browser. */
export interface Runs extends Pick<ConsentRuns, 'run'> {
  exchange(consent: ConsentRow, parties: ConsentParties, asks: Exchange['asks']): void;
  finish(consent: ConsentRow, phase: 'done' | 'failed', outcome: StoredOutcome): Promise<void>;
  /** Resolves when no exchange is running. */
  idle(): Promise<void>;
}

/** @param whenDone told of each consent of a person before its outcome is written: again, if that fails */
export function consentRuns(s: ConsentParts, whenDone: (consent: ConsentRow, outcome: StoredOutcome) => Promise<void>): Runs {
  const running = new Set<Promise<void>>();
  const finish = async (consent: ConsentRow, phase: 'done' | 'failed', outcome: StoredOutcome): Promise<void> => {
    if (consent.facts.invitation !== undefined) await whenDone(consent, outcome);
    await s.store.consents.change(consent.id, {
      ...{ phase, outcome, finishedAt: s.ports.clock.now() },
      ...{ verifierSealed: null, deviceSealed: null, pollAt: null },
    });
  };
  /** We failed in the middle: it is said, and tokens that came are kept beside what is in use until someone decides. */
  const brokenOff = async (consent: ConsentRow): Promise<StoredOutcome> => {
    const connection = await s.store.connections.byId(consent.connectionId);
    const came = connection !== null && (await s.store.renewals.read(consent.grantId)) !== null;
    const isUsed = connection?.currentGrantId === consent.grantId;
    if (came && !isUsed) await moveToStandby(s, connection.id, consent.grantId, 'not_verified');
    const words = came
      ? isUsed
        ? {}
        : { remedy: 'The tokens are on standby: use or discard them on the page of the connection. See the log for the cause.' }
      : { title: 'This service failed while it requested the tokens.', remedy: 'Open the connection again. See the log for the cause.' };
    const problem = problemOf(diagnosis('service_failed', { evidence: [], ...words }));
    if (connection) s.history.add({ actor: 'service', kind: 'consent_failed', subject: `connection:${connection.name}`, says: problem.title });
    return { ...emptyOutcome(), problem, decide: came && !isUsed ? 'not_verified' : null };
  };
  /** Moves a consent on, only from the phase that the caller saw. */
  const advance = (id: string, from: ConsentRow['phase'], to: ConsentRow['phase']): Promise<boolean> => s.store.consents.advance(id, from, { phase: to });
  const run: Runs['run'] = (consent, work) => {
    const going = beyondRequest(() => work(() => advance(consent.id, 'exchanging', 'verifying')))
      .then((outcome) => s.keeper.keep('consent outcome', () => finish(consent, outcome.problem ? 'failed' : 'done', outcome)))
      .catch(async (cause: unknown) => {
        s.ports.log.error(
          { event: 'consents.exchange_failed', cause: cause instanceof Error ? cause.message : 'unknown', consent: consent.id },
          'exchange failed on our side',
        );
        await s.keeper.keep('consent outcome', async () => finish(consent, 'failed', await brokenOff(consent)));
      })
      .finally(() => running.delete(going));
    running.add(going);
  };
  return {
    run,
    finish,
    exchange: (consent, parties, asks) => run(consent, (verifying) => exchange(s, { consent, ...parties, asks, verifying })),
    async idle() {
      while (running.size > 0) await Promise.all(running);
    },
  };
}
