import type { RenewalLimits } from '../../core/renewal/limits.ts';
import { bringForward } from '../../core/renewal/transitions.ts';
import type { Changes, History } from '../history/index.ts';
import type { ClientStore } from '../store/clients.ts';
import type { RenewalStore } from '../store/renewals.ts';
import type { ConnectionStates } from './connection-states.ts';

/**
 * A rejected client stops as a whole: one event, not one for each of its connections. While it is stopped, one
 * connection at a time tries; the first that succeeds brings the others back.
 */
export interface ClientHealth {
  stop(client: { id: string; name: string }, evidence: string): Promise<void>;
  /** May this connection be the one that tries? One conditional update decides, on however many replicas. */
  mayTry(clientId: string): Promise<boolean>;
  works(client: { id: string; name: string }): Promise<void>;
  /** The provider asked us to wait: every replica leaves this client alone until then (epoch ms). */
  hold(clientId: string, untilAt: number): Promise<void>;
}

const BROUGHT_BACK_MOST = 10_000;

export function clientHealth(deps: {
  clients: ClientStore;
  renewals: RenewalStore;
  states: Pick<ConnectionStates, 'touchClient'>;
  history: History;
  changes: Changes;
  limits: RenewalLimits;
}): ClientHealth {
  const { clients, renewals, states, history, changes, limits } = deps;
  return {
    async stop(client, evidence) {
      if (!(await clients.stop(client.id, evidence, limits.stoppedTryMs))) return;
      states.touchClient(client.id);
      history.add({ actor: 'service', kind: 'client_stopped', subject: `client:${client.name}`, says: `The provider rejects the client: ${evidence}` });
      await changes.announce('client', client.name);
    },
    mayTry: (clientId) => clients.mayTry(clientId, limits.stoppedTryMs),
    hold: (clientId, untilAt) => clients.hold(clientId, untilAt),
    async works(client) {
      if (!(await clients.works(client.id))) return;
      states.touchClient(client.id);
      history.add({ actor: 'service', kind: 'client_works', subject: `client:${client.name}`, says: 'The provider takes the client again.' });
      await renewals.update(await renewals.waitingOf(client.id, BROUGHT_BACK_MOST), bringForward());
      await changes.announce('client', client.name);
    },
  };
}
