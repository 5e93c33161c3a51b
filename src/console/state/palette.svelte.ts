import type { ApiClient } from '../../api/client.ts';
import { PLACES } from './places.ts';

/** One thing that can be found: choosing it goes to its address. */
export interface Found {
  kind: 'Page' | 'Action' | 'Connection' | 'Provider' | 'Client' | 'Caller' | 'Job';
  text: string;
  note: string;
  href: string;
}

export const keyOf = (one: Found): string => `${one.kind} ${one.href} ${one.text}`;

const CONNECTIONS_SHOWN = 8;
const SHOWN = 12;
/** Typing is over for so long before the service is asked, ms. */
const PAUSE_MS = 120;

const ALWAYS: readonly Found[] = [
  ...PLACES.map((place): Found => ({ kind: 'Page', text: place.name, note: '', href: place.path })),
  { kind: 'Action', text: 'Open a connection', note: '', href: '/connections/new' },
  { kind: 'Action', text: 'Add a provider', note: '', href: '/providers/new' },
  { kind: 'Action', text: 'Add a caller', note: '', href: '/callers' },
  { kind: 'Action', text: 'Show what needs action', note: '', href: '/connections?state=action_needed' },
];
const CONNECTION_TABS = [
  { words: 'test call', tab: 'test-call' },
  { words: 'scopes', tab: 'scopes' },
  { words: 'renewals', tab: 'renewals' },
  { words: 'activity', tab: 'activity' },
];

const fits = (one: Found, words: readonly string[]): boolean => {
  const text = `${one.kind} ${one.text} ${one.note}`.toLowerCase();
  return words.every((word) => text.includes(word));
};

/** Finds pages, actions and objects by parts of their names. Objects other than connections are few, and read once. */
export class Palette {
  text = $state('');
  #chosen = $state('');
  #objects = $state.raw<readonly Found[]>([]);
  #connections = $state.raw<readonly Found[]>([]);
  readonly #call: ApiClient;
  #timer: ReturnType<typeof setTimeout> | undefined;
  #round = 0;

  constructor(call: ApiClient) {
    this.#call = call;
  }

  words = $derived(this.text.toLowerCase().split(/\s+/).filter(Boolean));
  found = $derived([...this.#connections, ...[...ALWAYS, ...this.#objects].filter((one) => fits(one, this.words))].slice(0, SHOWN));
  /** What Enter goes to: what was chosen by an arrow key or the pointer, else the first. */
  selected = $derived(this.found.some((one) => keyOf(one) === this.#chosen) ? this.#chosen : this.found[0] ? keyOf(this.found[0]) : '');

  choose(key: string): void {
    this.#chosen = key;
  }

  /** @throws {ProblemError} */
  async open(): Promise<void> {
    this.text = '';
    this.#chosen = '';
    this.#connections = [];
    const [providers, clients, callers, jobs] = await Promise.all([
      this.#call('listProviders'),
      this.#call('listClients'),
      this.#call('listCallers'),
      this.#call('listJobs'),
    ]);
    this.#objects = [
      ...providers.items.map((one): Found => ({ kind: 'Provider', text: one.title, note: one.name, href: `/providers/${one.name}` })),
      ...clients.items.map(
        (one): Found => ({ kind: 'Client', text: `${one.provider}/${one.name}`, note: one.title, href: `/providers/${one.provider}/clients/${one.name}` }),
      ),
      ...callers.items.map((one): Found => ({ kind: 'Caller', text: one.name, note: one.title, href: `/callers/${one.name}` })),
      ...jobs.items.map((one): Found => ({ kind: 'Job', text: one.name, note: one.settings.title, href: `/jobs/${one.name}` })),
    ];
  }

  /** Takes what was typed. */
  type(text: string): void {
    this.text = text;
    this.#chosen = '';
    clearTimeout(this.#timer);
    this.#timer = setTimeout(() => void this.#search().catch(() => undefined), PAUSE_MS); // without an answer, pages and actions are still found
  }

  async #search(): Promise<void> {
    this.#round += 1;
    const round = this.#round;
    const [tab] = CONNECTION_TABS.filter((one) => this.text.toLowerCase().includes(one.words));
    const search = (tab ? this.text.toLowerCase().replace(tab.words, '') : this.text).trim();
    const { items } = search === '' ? { items: [] } : await this.#call('listConnections', { query: { search, limit: CONNECTIONS_SHOWN } });
    if (round !== this.#round) return;
    this.#connections = items.map((one) => ({
      kind: 'Connection',
      text: tab ? `${one.name}: ${tab.words}` : one.name,
      note: [one.provider_title, one.account].filter(Boolean).join(', '),
      href: tab ? `/connections/${one.name}/${tab.tab}` : `/connections/${one.name}`,
    }));
  }
}
