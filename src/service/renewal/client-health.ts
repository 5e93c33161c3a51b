import { approvalChange, type SeenApproval } from '../../core/oauth/approval-check.ts';
import type { RenewalLimits } from '../../core/renewal/limits.ts';
import { bringForward } from '../../core/renewal/transitions.ts';
import type { Changes, History } from '../history/index.ts';
import type { Ports } from '../ports.ts';
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
  /** A renewal showed what the provider thinks of the client: that becomes its approval, and news. */
  seen(client: { id: string; name: string }, approval: SeenApproval, evidence: string): Promise<void>;
}

const MAX_BROUGHT_BACK = 10_000;

export function clientHealth(deps: {
  clients: ClientStore;
  renewals: RenewalStore;
  states: Pick<ConnectionStates, 'touchClient'>;
  history: History;
  changes: Changes;
  limits: RenewalLimits;
  clock: Ports['clock'];
}): ClientHealth {
  const { clients, renewals, states, history, changes, limits } = deps;
  const seen: ClientHealth['seen'] = async (client, approval, evidence) => {
    const record = await clients.byId(client.id);
    if (!record || record.approval === approval || record.approval === 'not_needed') return;
    if (!(await clients.seeApproval(record, { approval, approvalSeenAt: deps.clock.now(), approvalEvidence: evidence.slice(0, 500) }))) return;
    history.add({
      actor: 'service',
      kind: 'approval_changed',
      subject: `client:${client.name}`,
      says: approvalChange(record.approval, approval),
      data: { approval },
    });
    await changes.announce('client', client.name);
  };
  return {
    async stop(client, evidence) {
      if (!(await clients.stop(client.id, evidence, limits.stoppedTryMs))) return;
      states.touchClient(client.id);
      history.add({ actor: 'service', kind: 'client_stopped', subject: `client:${client.name}`, says: `The provider rejects the client: ${evidence}` });
      await changes.announce('client', client.name);
    },
    mayTry: (clientId) => clients.mayTry(clientId, limits.stoppedTryMs),
    hold: (clientId, untilAt) => clients.hold(clientId, untilAt),
    seen,
    async works(client) {
      if (!(await clients.works(client.id))) return;
      await seen(client, 'approved', 'it renews again');
      states.touchClient(client.id);
      history.add({ actor: 'service', kind: 'client_works', subject: `client:${client.name}`, says: 'The provider takes the client again.' });
      await renewals.update(await renewals.waitingOf(client.id, MAX_BROUGHT_BACK), bringForward());
      await changes.announce('client', client.name);
    },
  };
}
