import type { RenewalLimits } from '../../core/renewal/limits.ts';
import { bringForward } from '../../core/renewal/transitions.ts';
import type { Changes } from '../changes.ts';
import type { History } from '../history.ts';
import { type Database, idBytes, instantText } from '../store/database.ts';
import type { RenewalStore } from '../store/renewals.ts';

/**
 * A refused client stops as a whole: one event, not one for each of its connections. While it is stopped, one
 * connection at a time tries; the first that succeeds brings the others back.
 */
export interface ClientHealth {
  stop(client: { id: string; name: string }, evidence: string): Promise<void>;
  /** May this connection be the one that tries? One conditional update decides, on however many replicas. */
  mayTry(clientId: string): Promise<boolean>;
  works(client: { id: string; name: string }): Promise<void>;
  /** The provider asked for patience: every replica leaves this client alone until then (epoch ms). */
  hold(clientId: string, untilAt: number): Promise<void>;
}

const BROUGHT_BACK_MOST = 10_000;

export function clientHealth(deps: { database: Database; store: RenewalStore; history: History; changes: Changes; limits: RenewalLimits }): ClientHealth {
  const { database, store, history, changes, limits } = deps;
  const nextTry = `UTC_TIMESTAMP(3) + INTERVAL ${limits.stoppedTryMs * 1000} MICROSECOND`;
  return {
    async stop(client, evidence) {
      const stopped = await database.write(
        `UPDATE clients SET health = 'stopped', next_try_at = ${nextTry}, evidence = $1 WHERE id = $2 AND health <> 'stopped'`,
        [evidence.slice(0, 500), idBytes(client.id)],
      );
      if (stopped === 0) return;
      history.add({ actor: 'service', kind: 'client_stopped', subject: `client:${client.name}`, says: `The provider refuses the client: ${evidence}` });
      await changes.announce('client', client.name);
    },
    async mayTry(clientId) {
      return (
        (await database.write(`UPDATE clients SET next_try_at = ${nextTry} WHERE id = $1 AND health = 'stopped' AND next_try_at <= UTC_TIMESTAMP(3)`, [
          idBytes(clientId),
        ])) === 1
      );
    },
    async hold(clientId, untilAt) {
      const until = instantText(untilAt);
      await database.write('UPDATE clients SET held_until = $1 WHERE id = $2 AND (held_until IS NULL OR held_until < $3)', [until, idBytes(clientId), until]);
    },
    async works(client) {
      const changed = await database.write("UPDATE clients SET health = 'working', next_try_at = NULL, evidence = NULL WHERE id = $1 AND health <> 'working'", [
        idBytes(client.id),
      ]);
      if (changed === 0) return;
      history.add({ actor: 'service', kind: 'client_works', subject: `client:${client.name}`, says: 'The provider takes the client again.' });
      await store.update(await store.waitingOf(client.id, BROUGHT_BACK_MOST), bringForward());
      await changes.announce('client', client.name);
    },
  };
}
