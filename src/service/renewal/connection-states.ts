import type { Fault } from '../../core/fault.ts';
import { connectionHealth, healthChangesAt } from '../../core/health.ts';
import type { Ports } from '../ports.ts';
import type { Narrow } from '../store/connection-list.ts';
import type { ListedConnection } from '../store/connection-rows.ts';
import type { StoredState } from '../store/connection-states.ts';
import type { Store } from '../store/store.ts';

/**
 * Keeps the shown state of each connection as a column, worked out by `core/health.ts`. What operators change is marked as due in the
 * database with the change itself; renewals report here, because a mark for each of them would cost more than it is worth. Every state is
 * checked again when time alone may have changed it, so that nothing stays wrong: not after a crash, and not beside an older replica.
 */
export interface ConnectionStates {
  /** A renewal of this grant went otherwise than the one before. */
  touch(grantId: string): void;
  /** Something changed that all connections of a client depend on: its health, or its provider's definition. */
  touchClient(clientId: string): void;
  /** Works out what is due, at most a page of it: before lists and counts are read. */
  settle(): Promise<void>;
  run(stop: AbortSignal): Promise<void>;
}

const EVERY_MS = 500;
const AT_ONCE = 200;
/** Of one client in a row, between which what is due is worked out. */
const MARKED_AT_ONCE = 1_000;
const MAX_ROUNDS = 20;
const MAX_SEARCH_TEXT = 600;

/** What a connection is searched by: names, account, labels and its state in words. */
const searchTextOf = (one: Pick<ListedConnection, 'name' | 'provider' | 'client' | 'account' | 'labels' | 'person'>, state: string): string =>
  [one.name, one.provider, one.client, one.account ?? '', one.person?.key ?? '', one.person?.name ?? '', ...one.labels, state.replaceAll('_', ' ')]
    .join(' ')
    .slice(0, MAX_SEARCH_TEXT);

function stateOf(one: ListedConnection): StoredState {
  const { state, cause_key: causeKey } = connectionHealth(one.facts, one.readAt);
  return { id: one.id, mark: one.stored.mark, state, causeKey, searchText: searchTextOf(one, state), checkAt: healthChangesAt(state, one, one.readAt) };
}

/** @param personChanged told of people's connections whose state was worked out, before it is written: again, where that fails */
export function connectionStates(deps: {
  store: Pick<Store, 'connectionList' | 'connectionStates'>;
  personChanged(one: ListedConnection): Promise<void>;
  ports: Pick<Ports, 'log' | 'sleep'>;
}): ConnectionStates {
  const { connectionList: list, connectionStates: states } = deps.store;
  const touched = new Set<string>();
  /** Clients of which not all connections are marked yet, with the last one that is. */
  const clients = new Map<string, string | null>();
  let settling: Promise<boolean> | null = null;

  const invalid = (fault: Fault): void =>
    deps.ports.log.error({ event: 'states.not_worked_out', cause: fault.message }, 'the state of a connection cannot be worked out');
  /** @param onlyChanged writes nothing where state and cause are as stored */
  const workOut = async (narrow: Narrow, onlyChanged: boolean): Promise<void> => {
    const found = await list.read(narrow, invalid);
    if (found.length === 0) return;
    const readAt = Math.min(...found.map((one) => one.readAt));
    const all = found.map((one) => ({ stored: one.stored, next: stateOf(one) }));
    for (const one of found) if (one.person !== null) await deps.personChanged(one);
    const due = onlyChanged ? all.filter(({ stored, next }) => next.state !== stored.state || next.causeKey !== stored.causeKey) : all;
    await states.write(
      due.map(({ next }) => next),
      readAt,
    );
  };
  const markClients = async (): Promise<void> => {
    for (const [clientId, after] of [...clients]) {
      const last = await states.markClient(clientId, after, MARKED_AT_ONCE);
      if (clients.get(clientId) !== after) continue; // it changed again meanwhile: from the start
      if (last === null) clients.delete(clientId);
      else clients.set(clientId, last);
    }
  };
  /** One page of each; true: there may be more. */
  const round = async (): Promise<boolean> => {
    const grantIds = [...touched].slice(0, AT_ONCE);
    for (const grantId of grantIds) touched.delete(grantId);
    try {
      if (grantIds.length > 0) await workOut({ grantIds }, true);
      if (clients.size > 0) await markClients();
      const ids = await states.due(AT_ONCE);
      if (ids.length > 0) await workOut({ ids }, false);
      return touched.size > 0 || clients.size > 0 || ids.length === AT_ONCE;
    } catch (cause) {
      for (const grantId of grantIds) touched.add(grantId);
      throw cause;
    }
  };
  const settleOnce = (): Promise<boolean> => {
    settling ??= round().finally(() => {
      settling = null;
    });
    return settling;
  };
  return {
    touch: (grantId) => void touched.add(grantId),
    touchClient: (clientId) => void clients.set(clientId, null),
    async settle() {
      if (settling) await settling.catch(() => false); // it may have begun before the change that is asked about
      await settleOnce();
    },
    async run(stop) {
      while (!stop.aborted) {
        try {
          for (let rounds = 0; rounds < MAX_ROUNDS && !stop.aborted && (await settleOnce()); rounds += 1);
        } catch (cause) {
          deps.ports.log.debug({ event: 'states.waiting', cause: String(cause) }, 'states of connections wait for the database');
        }
        await deps.ports.sleep(EVERY_MS, stop);
      }
    },
  };
}
