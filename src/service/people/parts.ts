import type { ConnectionParts } from '../connections/index.ts';
import type { ConsentParts, Consents } from '../consent/index.ts';
import type { Mail } from '../mail/index.ts';
import type { Store } from '../store/store.ts';

/** People depend on these: on the connections that their grants are, and on the consents by which these come. */
export interface PeopleParts extends Omit<ConnectionParts, 'store'>, Omit<ConsentParts, 'store'> {
  store: ConnectionParts['store'] & ConsentParts['store'] & Pick<Store, 'callers' | 'campaigns' | 'limits' | 'invitations' | 'permissions' | 'personEvents'>;
  mail: Mail;
}
/** What needs a consent besides. */
export type WithConsents = PeopleParts & { consents: Consents };
