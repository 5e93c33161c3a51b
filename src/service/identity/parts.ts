import { Fault } from '../../core/fault.ts';
import type { Send } from '../../core/oauth/wire.ts';
import type { History } from '../history/index.ts';
import type { Operators } from '../operators/index.ts';
import type { Ports } from '../ports.ts';
import type { Sealer } from '../sealer.ts';
import type { Store } from '../store/store.ts';

/** What sign-in at the company's own provider depends on. */
export interface IdentityParts {
  store: Pick<Store, 'identityProvider' | 'operators' | 'sessions' | 'callerIdentities'>;
  operators: Operators;
  sealer: Sealer;
  history: History;
  send: Send;
  publicUrl: string;
  ports: Pick<Ports, 'clock' | 'log' | 'random'>;
}

/** Where the secret of our client is sealed. */
export const SECRET_PLACE = { table: 'identity_providers', row: '1', column: 'secret_sealed' };

export const refused = (detail: string, remedy?: string): Fault => new Fault('SIGN_IN_REFUSED', { detail, ...(remedy ? { remedy } : {}) });
export const redirectUriOf = (publicUrl: string): string => `${publicUrl}/sign-in/callback`;
