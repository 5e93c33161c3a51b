import { stringify } from 'csv-stringify/sync';
import type { PrivilegeShown } from '../../api/privilege.ts';
import { privilegeOf } from '../../core/clients/privilege.ts';
import { couldBeLess, privilegeOfConnection } from '../../core/privilege/report.ts';
import { POWERS, type ProviderDefinition } from '../../core/provider/definition.ts';
import { iso } from '../iso.ts';
import type { Command } from '../operation-call.ts';
import { definitionFor } from '../records/index.ts';
import type { ListedConnection } from '../store/connection-rows.ts';
import type { PrivilegeParts } from './parts.ts';

const DAYS = 35;
/** Read at once; and so often at most: two million connections. */
const PAGE = 2_000;
const MAX_PAGES = 1_000;
const CONNECTIONS_SHOWN = 2_000;

/** Everything for one page: clients and connections by what they can do, permissions that could be less, people on whom schedules depend. */
export async function showPrivilege(s: PrivilegeParts): Promise<PrivilegeShown> {
  const report = await reportOf(s);
  return { ...report, connections: report.connections.slice(0, CONNECTIONS_SHOWN) };
}

async function reportOf(s: PrivilegeParts): Promise<PrivilegeShown> {
  const now = s.ports.clock.now();
  const definitions = new Map<string, { definition: ProviderDefinition; type: string; environment: string; says: ReturnType<typeof privilegeOf> }>();
  const clients: PrivilegeShown['clients'] = [];
  for (const provider of await s.store.providers.all()) {
    const inUse = await s.store.providers.inUse(provider.name);
    for (const row of inUse ? await s.store.clients.ofProvider(provider.id) : []) {
      if (!inUse) continue;
      const definition = definitionFor(inUse.definition, row);
      const says = privilegeOf(definition.scopes, row.registeredScopes, row.type);
      definitions.set(`${provider.name}/${row.name}`, { definition, type: row.type, environment: row.environment, says });
      clients.push({
        ...{ name: `${provider.name}/${row.name}`, environment: row.environment, power: says.power, acts_for_itself: says.actsForItself, says: says.says },
        connections: (await s.store.connectionList.count({ provider: provider.name, client: row.name })) ?? 0,
      });
    }
  }
  const uses = await s.store.usage.byCallerAndConnection(now - DAYS * 86_400_000);
  const jobs = await s.store.jobs.list();
  const users = new Map<string, Set<string>>();
  for (const one of uses) users.set(one.connection, (users.get(one.connection) ?? new Set()).add(one.caller));
  const fetched = new Set(uses.filter((use) => use.tokens > 0).map((use) => use.connection));
  const jobsOf = new Map<string, typeof jobs>();
  for (const job of jobs) jobsOf.set(job.connectionId, [...(jobsOf.get(job.connectionId) ?? []), job]);
  const connections: PrivilegeShown['connections'] = [];
  const add = (one: ListedConnection, calls: Calls): void => {
    const client = definitions.get(`${one.provider}/${one.client}`);
    if (!client || one.facts.intent === 'revoked') return;
    const own = jobsOf.get(one.id) ?? [];
    const granted = one.grantedScopes ?? one.scopes;
    const { power, width, unneeded, isKnown } = privilegeOfConnection({
      ...{ name: one.name, definition: client.definition, clientType: client.type, shared: one.shared, granted, operations: one.operations },
      calls: [...(calls.get(one.id) ?? []), ...own.flatMap((job) => (job.settings.call ? [job.settings.call] : []))],
      hasTokensIssued: fetched.has(one.name),
    });
    connections.push({
      ...{ name: one.name, client: `${one.provider}/${one.client}`, environment: one.environment, power, width, account: one.account, granted },
      ...{ unneeded, unneeded_known: isKnown, callers: [...(users.get(one.name) ?? [])].sort(), jobs: own.map((job) => job.name) },
    });
  };
  for (let [page, after] = [0, undefined as string | undefined]; page < MAX_PAGES; page += 1) {
    const listed = await s.store.connectionList.read({ limit: PAGE, after });
    const calls = await s.store.savedCalls.callsOf(listed.map((one) => one.id));
    for (const one of listed) add(one, calls);
    after = listed.at(-1)?.name;
    if (listed.length < PAGE) break;
  }
  const rank = (power: (typeof POWERS)[number] | null) => (power === null ? -1 : POWERS.indexOf(power));
  connections.sort((a, b) => rank(b.power) - rank(a.power) || (a.name < b.name ? -1 : 1));
  clients.sort((a, b) => rank(b.power) - rank(a.power) || (a.name < b.name ? -1 : 1));
  return {
    ...{ at: iso(now), connections, connections_total: connections.length, clients },
    ...{ callers: await permissionsOf(s, uses), dependents: dependentsOf(connections), days: DAYS },
  };
}

type Calls = Awaited<ReturnType<PrivilegeParts['store']['savedCalls']['callsOf']>>;
type Uses = Awaited<ReturnType<PrivilegeParts['store']['usage']['byCallerAndConnection']>>;

async function permissionsOf(s: PrivilegeParts, uses: Uses): Promise<PrivilegeShown['callers']> {
  const found: PrivilegeShown['callers'] = [];
  for (const caller of await s.store.callers.all())
    for (const { connection, label, rule } of await s.store.permissions.of(caller.id)) {
      const names = label === null ? [connection ?? ''] : (await s.store.permissions.labelled(label, 500)).names;
      const own = uses.filter((use) => use.caller === caller.name && names.includes(use.connection));
      const [tokens, relayed] = [own.reduce((sum, use) => sum + use.tokens, 0), own.reduce((sum, use) => sum + use.relayed, 0)];
      const facts = { use: rule.use, tokens, relayed, hasLimits: rule.methods.length > 0 || rule.paths.length > 0 };
      found.push({ name: caller.name, opens: connection ?? `label ${label}`, use: rule.use, tokens, relayed, could: couldBeLess(facts, DAYS) });
    }
  return found.sort((a, b) => Number(b.could !== null) - Number(a.could !== null) || (a.name < b.name ? -1 : 1));
}

/** Accounts of people: if one of them leaves, these schedules and callers stop. */
function dependentsOf(connections: PrivilegeShown['connections']): PrivilegeShown['dependents'] {
  const found = new Map<string, PrivilegeShown['dependents'][number]>();
  for (const one of connections) {
    if (one.account === null || one.width === 'each_person' || one.jobs.length + one.callers.length === 0) continue;
    const provider = one.client.split('/')[0] ?? '';
    const key = `${provider} ${one.account}`;
    const known = found.get(key) ?? { account: one.account, provider, connections: [], jobs: [], callers: [] };
    found.set(key, {
      ...known,
      connections: [...known.connections, one.name],
      jobs: [...new Set([...known.jobs, ...one.jobs])],
      callers: [...new Set([...known.callers, ...one.callers])],
    });
  }
  return [...found.values()].sort((a, b) => b.jobs.length + b.callers.length - (a.jobs.length + a.callers.length));
}

/** One row for each connection, of all of them; formulas in spreadsheets are guarded against. */
export async function exportPrivilege(s: PrivilegeParts, { actor }: Pick<Command<'exportPrivilege'>, 'actor'>): Promise<{ name: string; text: string }> {
  const { connections, at } = await reportOf(s);
  const rows = connections.map((one) => ({
    ...{ connection: one.name, client: one.client, environment: one.environment, privilege: one.power ?? 'not known', reaches: one.width.replaceAll('_', ' ') },
    ...{
      account: one.account ?? '',
      scopes: one.granted.join(' '),
      not_needed: one.unneeded.join(' '),
      not_needed_is_certain: one.unneeded_known ? 'yes' : 'no',
    },
    ...{ callers: one.callers.join(' '), jobs: one.jobs.join(' ') },
  }));
  s.history.add({
    actor: actor.operator.name,
    kind: 'privilege_exported',
    subject: 'installation',
    says: `Exported the privilege of ${rows.length} connections.`,
  });
  return { name: `privilege-${at.slice(0, 10)}.csv`, text: stringify(rows, { header: true, escape_formulas: true }) };
}
