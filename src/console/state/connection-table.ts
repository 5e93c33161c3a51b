import { CONNECTION_STATES } from '../../api/choices.ts';
import type { ConnectionSummary } from '../../api/connections.ts';
import { type Column, TableState } from '../ui/table.svelte.ts';

const NEVER = Number.MAX_SAFE_INTEGER;

export const CONNECTION_COLUMNS: readonly Column<ConnectionSummary>[] = [
  { key: 'name', label: 'Connection', sortBy: (one) => one.name, class: 'font-semibold' },
  { key: 'state', label: 'State', sortBy: (one) => CONNECTION_STATES.indexOf(one.state) },
  { key: 'account', label: 'Account', sortBy: (one) => one.account ?? '' },
  { key: 'client', label: 'Client', sortBy: (one) => `${one.provider_title}/${one.client}` },
  { key: 'life', label: 'Token lifetime', class: 'lg:w-56' },
  { key: 'expires', label: 'Expires', sortBy: (one) => (one.life ? Date.parse(one.life.expires_at) : NEVER), class: 'lg:w-24' },
  { key: 'renewals', label: 'Renewed', sortBy: (one) => one.renewals, class: 'lg:w-20 lg:text-right tabular-nums' },
];

export const connectionTable = (): TableState<ConnectionSummary> => new TableState(CONNECTION_COLUMNS, (one) => one.name);
