import type { z } from 'zod';
import type { BulkChange, BulkOutcome } from '../../api/connections.ts';
import { Fault } from '../../core/fault.ts';
import type { Asked } from '../operation-call.ts';
import { changeConnection, pauseConnection, renewConnection, resumeConnection } from './connections.ts';
import { findKnown } from './find.ts';
import type { ConnectionParts } from './parts.ts';

/** Renewals wait for providers; more at once would only wait in the lanes. */
const AT_ONCE = 8;
/** After that no further connection is begun: whoever asked is answered before they give up. */
const BEGIN_MS = 40_000;
const NOT_BEGUN = 'Not started: the others took too long. Send it again.';

type Change = z.output<typeof BulkChange>;
type Outcome = z.output<typeof BulkOutcome>['items'][number];
type Actor = Asked<'changeConnections'>['actor'];

async function changeLabels(s: ConnectionParts, connection: string, actor: Actor, to: (labels: string[]) => string[]): Promise<void> {
  const { labels, revision } = await findKnown(s, connection);
  const next = to(labels);
  if (next.join(' ') === labels.join(' ')) return;
  await changeConnection(s, { params: { connection }, body: { revision, labels: next, allow_unlisted_scopes: false }, actor });
}

function changeOne(s: ConnectionParts, connection: string, { action, label = '' }: Change, actor: Actor): Promise<void> {
  const one = { params: { connection }, body: undefined, actor };
  switch (action) {
    case 'pause':
      return pauseConnection(s, one);
    case 'resume':
      return resumeConnection(s, one);
    case 'renew':
      return renewConnection(s, one);
    case 'add_label':
      return changeLabels(s, connection, actor, (labels) => [...new Set([...labels, label])]);
    case 'remove_label':
      return changeLabels(s, connection, actor, (labels) => labels.filter((known) => known !== label));
    default:
      return action satisfies never;
  }
}

/** One action on many connections. What fails for one is its own outcome, and stops nothing for the others. */
export async function changeConnections(s: ConnectionParts, { body, actor }: Asked<'changeConnections'>): Promise<z.output<typeof BulkOutcome>> {
  const names = [...new Set(body.connections)];
  const waiting = [...names];
  const endsAt = s.ports.clock.now() + BEGIN_MS;
  const outcomes = new Map<string, Outcome>();
  const work = async (): Promise<void> => {
    for (let connection = waiting.shift(); connection !== undefined; connection = waiting.shift())
      try {
        if (s.ports.clock.now() > endsAt) {
          outcomes.set(connection, { connection, done: false, problem: NOT_BEGUN });
          continue;
        }
        await changeOne(s, connection, body, actor);
        outcomes.set(connection, { connection, done: true, problem: null });
      } catch (error) {
        if (!(error instanceof Fault)) throw error;
        outcomes.set(connection, { connection, done: false, problem: error.message });
      }
  };
  await Promise.all(Array.from({ length: AT_ONCE }, work));
  const items = names.flatMap((connection) => outcomes.get(connection) ?? []);
  return { items, done: items.filter((one) => one.done).length };
}
