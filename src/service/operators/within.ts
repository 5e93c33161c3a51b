import { z } from 'zod';
import { operationNames } from '../../api/operations.ts';
import type { Reference, ReferenceKind } from '../../api/references.ts';
import { ruleOf } from '../../api/role-rules.ts';
import { atLeast, type RoleRule } from '../../api/roles.ts';
import { Fault } from '../../core/fault.ts';
import { isClientsOwn } from '../../core/oauth/grant-kinds.ts';
import type { SignedInOperator } from '../operation-call.ts';
import type { Store } from '../store/store.ts';

type LimitParts = { store: Pick<Store, 'limits' | 'notices'> };

/** @throws {Fault} ROLE_TOO_LOW */
export function checkRole(operator: Pick<SignedInOperator, 'role' | 'kind'>, rule: Pick<RoleRule, 'role'>): void {
  if (atLeast(operator.role, rule.role)) return;
  const who = operator.kind === 'token' ? 'This personal token has the role' : 'Your role is';
  throw new Fault('ROLE_TOO_LOW', { detail: `${who} ${operator.role}; this needs ${rule.role}.` });
}

/** What an account may never call, whatever it names: the console explains it beforehand. */
export const refusedTo = ({ role, labels }: Pick<SignedInOperator, 'role' | 'labels'>): string[] =>
  operationNames.filter((name) => {
    const rule = ruleOf(name);
    return rule !== null && (!atLeast(role, rule.role) || (labels.length > 0 && rule.limit === 'installation'));
  });

/** What a request says beside the names in it. */
interface Asks {
  references: readonly Reference[];
  body: unknown;
}

const Removes = z.object({ action: z.literal('remove_label'), label: z.string() });
const Uses = z.object({ provider: z.string().optional(), grant_type: z.string().optional() });
const OBJECTS: Partial<Record<ReferenceKind, string>> = {
  ...{ connection: 'Connection', caller: 'Caller', job: 'Job', run: 'Run', consent: 'Consent', invitation: 'Invitation', notice: 'Notice' },
};

/**
 * The one place that decides what an account which is limited to labels may name. Every reference of a request comes here, wherever it stands
 * (`api/operation-references.ts`). What is outside answers as if it did not exist.
 * @throws {Fault} NOT_FOUND, OUTSIDE_LIMITS
 */
export async function checkLimits(s: LimitParts, operator: Pick<SignedInOperator, 'labels'>, rule: Pick<RoleRule, 'limit'>, asks: Asks): Promise<void> {
  const { labels } = operator;
  if (labels.length === 0) return;
  const { limits } = s.store;
  const says = `Your account is limited to ${labels.join(', ')}.`;
  const outside = (why: string) => new Fault('OUTSIDE_LIMITS', { detail: `${says} ${why}` });
  if (rule.limit === 'installation') throw outside('This concerns the whole installation.');
  const of = (kind: ReferenceKind): string[] => asks.references.filter((one) => one.to === kind).flatMap((one) => [...one.names]);
  /** @param within the names of those that the account may see */
  const need = (kind: ReferenceKind, names: readonly string[], within: ReadonlySet<string>): void => {
    const other = names.find((name) => !within.has(name));
    if (other !== undefined) throw new Fault('NOT_FOUND', { detail: `${OBJECTS[kind]} "${other.slice(0, 63)}" not found. ${says}` });
  };
  const needLabels = async (given: readonly string[]): Promise<void> => {
    if (given.length === 0) return;
    const carried = await limits.labelsWithin(labels);
    const other = given.find((label) => !labels.includes(label) && !carried.has(label));
    if (other !== undefined) throw outside(`You can give these labels, and those that your connections have already. Not: ${other}.`);
  };
  const resolvers: Record<Exclude<ReferenceKind, 'shared' | 'part' | 'label_filter' | 'sign_in_request'>, (names: string[]) => Promise<void> | void> = {
    connection: async (names) => need('connection', names, await limits.connectionsWithin(names, labels)),
    caller: async (names) => need('caller', names, await limits.callersWithin(names, labels)),
    job: async (names) => need('job', names, await limits.jobsWithin(names, labels)),
    run: async (names) => need('run', names, await limits.runsWithin(idsOf(names), labels)),
    consent: async (names) => need('consent', names, await limits.consentsWithin(idsOf(names), labels)),
    invitation: async (names) => need('invitation', names, await limits.invitationsWithin(idsOf(names), labels)),
    notice: async (names) => {
      const rows = await s.store.notices.byIds(idsOf(names));
      need('notice', names, new Set(rows.filter((row) => row.labels.some((label) => labels.includes(label))).map((row) => row.id)));
    },
    subject: (names) => subjectWithin(names, resolvers),
    client_to_use: async ([client]) => {
      const { provider, grant_type: grantType } = Uses.safeParse(asks.body).data ?? {};
      const use =
        client === undefined
          ? null
          : await limits.clientUse({ client, ...(provider === undefined ? { connection: of('connection')[0] ?? '' } : { provider }) }, labels);
      // People consent to what is done in their name; a client that acts for itself needs nobody.
      if (use && (use.type === 'service_account' || isClientsOwn(grantType ?? use.grantType ?? 'authorization_code')) && use.beyond && !use.within)
        throw outside(`The client ${client} acts for itself, and only connections beyond your limit use it.`);
    },
    label: needLabels,
    kept_labels: async (given) => {
      // A change of labels must not take the connection out of reach.
      if (!given.some((label) => labels.includes(label))) throw outside('Give the connection one of these labels.');
      await needLabels(given);
    },
    permitted_label: (given) => {
      if (given.some((label) => !labels.includes(label))) throw outside('Choose one of these labels.');
    },
    installation: () => {
      throw outside('This concerns the whole installation.');
    },
  };
  const isKeeping = asks.references.some((one) => one.to === 'kept_labels');
  if (rule.limit === 'references' && !isKeeping && !Object.keys(resolvers).some((kind) => of(kind as ReferenceKind).length > 0))
    throw outside('Choose one connection.');
  for (const [kind, resolve] of Object.entries(resolvers)) {
    const names = of(kind as ReferenceKind);
    if (names.length > 0 || (kind === 'kept_labels' && isKeeping)) await resolve(names);
  }
  const removes = Removes.safeParse(asks.body).data;
  if (removes && labels.includes(removes.label)) throw outside('Taking this label away would take the connections out of your reach.');
}

const idsOf = (names: readonly string[]): string[] => names.filter((name) => z.uuid().safeParse(name).success);

/** A subject of the activity log is an object by its kind and name; what concerns the whole installation has none that an account is limited to. */
async function subjectWithin(
  names: readonly string[],
  resolvers: Pick<Record<ReferenceKind, (names: string[]) => Promise<void> | void>, 'connection' | 'caller' | 'job' | 'installation'>,
): Promise<void> {
  for (const subject of names) {
    const [, kind = '', name = ''] = /^(connection|caller|job):(.+)$/.exec(subject) ?? [];
    if (kind === 'connection' || kind === 'caller' || kind === 'job') await resolvers[kind]([name]);
    else await resolvers.installation([]);
  }
}
