import { CONNECTION_STATES } from '../../api/choices.ts';

type ConnectionState = (typeof CONNECTION_STATES)[number];

/** What the list of connections is narrowed to; it stands in the page's address. */
export interface ConnectionFilter {
  search: string;
  state: ConnectionState | '';
  provider: string;
  client: string;
  label: string;
}

const KEYS = ['search', 'state', 'provider', 'client', 'label'] as const;

/** Reads the part of an address behind `?`; what it does not know is left out. */
export function readFilter(query: string): ConnectionFilter {
  const given = new URLSearchParams(query);
  const of = (key: (typeof KEYS)[number]) => given.get(key)?.trim() ?? '';
  const state = CONNECTION_STATES.find((one) => one === of('state')) ?? '';
  const provider = of('provider');
  return { search: of('search'), state, provider, client: provider === '' ? '' : of('client'), label: of('label') };
}

/** The address of the list narrowed so. */
export function filterAddress(filter: ConnectionFilter): string {
  const query = new URLSearchParams(KEYS.flatMap((key) => (filter[key] === '' ? [] : [[key, filter[key]]])));
  const text = query.toString();
  return text === '' ? '/connections' : `/connections?${text}`;
}

/** As the API wants it: nothing that is empty. */
export const filterQuery = (filter: ConnectionFilter): { [K in keyof ConnectionFilter]?: Exclude<ConnectionFilter[K], ''> } =>
  Object.fromEntries(KEYS.flatMap((key) => (filter[key] === '' ? [] : [[key, filter[key]]])));
