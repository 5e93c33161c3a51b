import type { Status } from '../../api/status.ts';

/** One of the first steps of an installation, in the order of work. */
export interface FirstStep {
  title: string;
  says: string;
  href: string;
  action: string;
  done: boolean;
}

/** What a new installation has done and what is next. */
export const firstSteps = (status: Pick<Status, 'providers' | 'clients' | 'callers' | 'connections'>): FirstStep[] => [
  {
    title: 'Add a provider',
    says: 'From an issuer, a metadata or OpenAPI document, four fields, or a definition file.',
    href: '#/providers/new',
    action: 'Add a provider',
    done: status.providers > 0,
  },
  {
    title: 'Register a client',
    says: 'Get the redirect URI first, then enter the id and the secret that the provider shows.',
    href: '#/providers',
    action: 'Choose the provider',
    done: status.clients > 0,
  },
  {
    title: 'Open a connection',
    says: 'Someone consents at the provider; a test call then verifies that it works.',
    href: '#/connections/new',
    action: 'Open a connection',
    done: status.connections.total > 0,
  },
  {
    title: 'Add a caller',
    says: 'Give its id and key to the integration: it fetches tokens or relays calls with them.',
    href: '#/callers',
    action: 'Add a caller',
    done: status.callers > 0,
  },
];
