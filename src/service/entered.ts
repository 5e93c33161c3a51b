import { end } from '../core/renewal/transitions.ts';
import { Secret } from '../core/secret.ts';
import type { NewestAnswers } from './renewal/index.ts';
import type { SealedStore } from './sealed-documents.ts';
import type { Sealer } from './sealer.ts';
import type { SecretRow } from './store/secrets.ts';

type CallerKey = Parameters<SealedStore['callers']['addKey']>[0];
/** What people entered and the provider or a program has already: it comes back where the database lost it. The newest fact of each counts. */
type Entered =
  | { kind: 'secret'; row: Omit<SecretRow, 'sealed'>; value: string; replacing: 'all' | 'active' | 'none' }
  | { kind: 'secret_retired'; id: string }
  | { kind: 'key'; row: Omit<CallerKey, 'hash'>; hash: string }
  | { kind: 'key_retired'; id: string; at: number }
  /** Someone revoked or replaced it. */
  | { kind: 'grant_ended'; id: string };

const place = (row: string) => ({ table: 'client_secrets', row, column: 'sealed' });

/** Client secrets and caller keys that this replica adds or retires, and grants that it ends, are kept in its data folder, beside the newest answers. */
export function rememberingEntered(store: SealedStore, { newest, sealer }: { newest: NewestAnswers; sealer: Sealer }): SealedStore {
  const keep = (id: string, entered: Entered): void => newest.keepEntered(id, JSON.stringify(entered));
  return {
    ...store,
    renewals: {
      ...store.renewals,
      async update(grantIds, transition) {
        const changed = await store.renewals.update(grantIds, transition);
        if (changed > 0 && transition.set.ended) {
          newest.ended(grantIds);
          for (const id of grantIds) keep(id, { kind: 'grant_ended', id });
        }
        return changed;
      },
    },
    secrets: {
      ...store.secrets,
      async add({ sealed, ...row }, replacing) {
        await store.secrets.add({ ...row, sealed }, replacing);
        keep(row.id, { kind: 'secret', row, value: (await sealer.open(place(row.id), sealed)).reveal(), replacing });
      },
      async retire(id) {
        await store.secrets.retire(id);
        keep(id, { kind: 'secret_retired', id });
      },
    },
    callers: {
      ...store.callers,
      async addKey({ hash, ...row }) {
        await store.callers.addKey({ hash, ...row });
        keep(row.id, { kind: 'key', row, hash: hash.toString('base64') });
      },
      async retireKey(id, at) {
        await store.callers.retireKey(id, at);
        keep(id, { kind: 'key_retired', id, at });
      },
    },
  };
}

export interface EnteredParts {
  store: Pick<SealedStore, 'callers' | 'clients' | 'renewals' | 'secrets'>;
  newest: NewestAnswers;
  sealer: Sealer;
  /** A token in memory is good no longer. */
  moved(grantId: string): void;
}

/** Adds, retires and ends again what the database lost. To do it twice changes nothing. @returns how many were restored */
export async function putBackEntered(s: EnteredParts): Promise<number> {
  let restored = 0;
  for await (const text of s.newest.allEntered()) restored += (await putBackOne(s, JSON.parse(text) as Entered)) ? 1 : 0;
  return restored;
}

async function putBackOne({ store: { callers, clients, renewals, secrets }, sealer, moved }: EnteredParts, entered: Entered): Promise<boolean> {
  switch (entered.kind) {
    case 'secret': {
      const { row, value, replacing } = entered;
      if ((await secrets.byId(row.id)) !== null || (await clients.byId(row.clientId)) === null) return false;
      await secrets.add({ ...row, sealed: sealer.seal(place(row.id), new Secret(value)) }, replacing);
      return true;
    }
    case 'secret_retired': {
      const row = await secrets.byId(entered.id);
      if (row === null || row.state === 'retired') return false;
      await secrets.retire(entered.id);
      return true;
    }
    case 'key': {
      const { row, hash } = entered;
      if ((await callers.byId(row.callerId)) === null || (await callers.key(row.callerId, row.id)) !== null) return false;
      await callers.addKey({ ...row, hash: Buffer.from(hash, 'base64') });
      return true;
    }
    case 'key_retired':
      await callers.retireKey(entered.id, entered.at);
      return true;
    case 'grant_ended': {
      const isEnded = (await renewals.update([entered.id], end())) > 0;
      if (isEnded) moved(entered.id);
      return isEnded;
    }
    default:
      return entered satisfies never;
  }
}
