import { type KnownSecret, usableSecrets } from '../../core/clients/choose-secret.ts';
import type { ClientCredentials } from '../../core/oauth/client-authentication.ts';
import type { KeyFacts } from '../../core/oauth/client-keys.ts';
import { type ClientAuthenticationMethod, kindsFor } from '../../core/oauth/methods.ts';
import type { Changes, History } from '../history/index.ts';
import type { Ports } from '../ports.ts';
import type { Sealer } from '../sealer.ts';
import type { SecretStore } from '../store/secrets.ts';

/** A client's credentials, best first, and the newer secret that waits to be verified, if any. */
export interface CredentialsAtHand {
  inOrder: ClientCredentials[];
  unverified: ClientCredentials | null;
  /** Nobody is trying it now, and it does not wait to be uploaded: asking for the turn is worth a write. */
  unprovedFree: boolean;
  /** Secrets that the provider has taken at least once. */
  verified: Set<string>;
}

/**
 * The secrets of a client over time. A new one is tried by one request at a time, while the current one stays; the first success makes
 * it the current one, a rejection puts it aside; the former one is restored automatically when its successor is rejected.
 */
export interface ClientSecrets {
  of(clientRecordId: string, clientId: string | null, method: ClientAuthenticationMethod): Promise<CredentialsAtHand>;
  /** May this request be the one that tries the new secret? One conditional update decides, on however many replicas. */
  mayTry(secretId: string): Promise<boolean>;
  verified(client: { id: string; name: string }, secretId: string): Promise<void>;
  refused(client: { id: string; name: string }, secretId: string, evidence: string): Promise<void>;
}

const TRY_SECONDS = 60;

/** With what a key signs, and the key id that is sent; of earlier records the id under which it was registered then. */
export function signingOf(facts: KeyFacts | null): ClientCredentials['signing'] {
  return facts ? { algorithm: facts.algorithm ?? null, keyId: facts.keyId === undefined ? facts.kid : facts.keyId } : undefined;
}

export function clientSecrets(deps: { store: SecretStore; sealer: Sealer; history: History; changes: Changes; ports: Pick<Ports, 'clock'> }): ClientSecrets {
  const { store, sealer, history, changes, ports } = deps;
  return {
    async of(clientRecordId, clientId, method) {
      const none: CredentialsAtHand = { inOrder: [], unverified: null, unprovedFree: false, verified: new Set() };
      if (clientId === null) return none;
      if (method === 'none') return { ...none, inOrder: [{ clientId, method, secret: null, secretId: null }] };
      const known = (await store.keptOf(clientRecordId)).map((row) => ({
        ...row,
        enteredAt: row.enteredAt ?? row.startsAt,
        signing: signingOf(row.facts),
      })) satisfies KnownSecret[];
      const usable = usableSecrets(known, kindsFor(method), ports.clock.now());
      const opened = await Promise.all(
        usable.map(async (one): Promise<ClientCredentials> => {
          const secret = await sealer.open({ table: 'client_secrets', row: one.id, column: 'sealed' }, one.sealed);
          return { clientId, method, secret, secretId: one.id, signing: one.signing };
        }),
      );
      const waiting = usable.find((one) => one.state === 'unverified' && one.refusedAt === null);
      return {
        inOrder: opened,
        unverified: opened.find((one) => one.secretId === waiting?.id) ?? null,
        unprovedFree: (waiting?.tryingUntil ?? 0) < ports.clock.now(),
        verified: new Set(known.filter((one) => one.provedAt !== null && one.state === 'active' && one.refusedAt === null).map((one) => one.id)),
      };
    },

    mayTry: (secretId) => store.mayTry(secretId, TRY_SECONDS),

    async verified(client, secretId) {
      const became = await store.accepted(client.id, secretId);
      if (!became) return;
      history.add({
        actor: 'service',
        kind: 'secret_verified',
        subject: `client:${client.name}`,
        says: 'The provider takes this secret: it is the current one now; the former one is kept in reserve.',
      });
      await changes.announce('client', client.name);
    },

    async refused(client, secretId, evidence) {
      if (!(await store.rejected(secretId, evidence))) return;
      history.add({
        actor: 'service',
        kind: 'secret_refused',
        subject: `client:${client.name}`,
        says: `The provider does not take one of its secrets: ${evidence}`,
      });
    },
  };
}

/** Tries with other secrets in one attempt: bounded by the lease. */
const MAX_CHOICES = 3;

/** A newer secret that waits to be verified goes first, in one request at a time; then the current one, then those in reserve. */
export async function inTryingOrder({ inOrder, unverified, unprovedFree }: CredentialsAtHand, mayTry: ClientSecrets['mayTry']): Promise<ClientCredentials[]> {
  const settled = inOrder.filter((one) => one !== unverified);
  if (!unverified) return settled.slice(0, MAX_CHOICES);
  if (settled.length === 0) return [unverified];
  const first = unprovedFree && unverified.secretId !== null && (await mayTry(unverified.secretId));
  return (first ? [unverified, ...settled] : [...settled, unverified]).slice(0, MAX_CHOICES);
}
