import { z } from 'zod';
import { operationNames } from '../../api/operations.ts';
import { ruleOf } from '../../api/role-rules.ts';
import { atLeast, type RoleRule } from '../../api/roles.ts';
import { Fault } from '../../core/fault.ts';
import type { SignedInOperator } from '../asked.ts';
import type { Store } from '../store/store.ts';

/** What of a request says which objects it concerns. */
export interface Named {
  params: Record<string, string>;
  query: unknown;
  body: unknown;
}
type LimitParts = { store: Pick<Store, 'limits' | 'notices'> };

/** @throws {Fault} ROLE_TOO_LOW */
export function checkRole(operator: Pick<SignedInOperator, 'role' | 'kind'>, rule: RoleRule): void {
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

const Text = z.string();
const BodyConnection = z.object({ connection: z.string() });
const BodyNames = z.object({ connections: z.array(z.string()), action: z.string().optional(), label: z.string().optional() });
const BodyLabels = z.object({ labels: z.array(z.string()).optional() });
const Permitted = z.object({ connection: z.string().optional(), label: z.string().optional() });
const Subject = z.object({ subject: z.string().optional(), connection: z.string().optional() });

/**
 * An account that is limited to labels may name only what concerns connections with one of them. What is outside answers as if it did not
 * exist.
 * @throws {Fault} NOT_FOUND, OUTSIDE_LIMITS
 */
export async function checkLimits(s: LimitParts, operator: Pick<SignedInOperator, 'labels'>, rule: RoleRule, { params, query, body }: Named): Promise<void> {
  const { labels } = operator;
  if (labels.length === 0 || rule.limit === 'open' || rule.limit === 'listed') return;
  const { limits } = s.store;
  const says = `Your account is limited to ${labels.join(', ')}.`;
  const missing = (what: string) => new Fault('NOT_FOUND', { detail: `${what} not found. ${says}` });
  const outside = (why: string) => new Fault('OUTSIDE_LIMITS', { detail: `${says} ${why}`.trim() });
  const needConnections = async (names: readonly string[]): Promise<void> => {
    const within = await limits.connectionsWithin(names, labels);
    const other = names.find((name) => !within.has(name));
    if (other !== undefined) throw missing(`Connection "${other}"`);
  };
  const param = (name: string): string => Text.parse(params[name] ?? '');
  const id = (name: string): string | null => (z.uuid().safeParse(param(name)).success ? param(name) : null);
  const ofId = async (name: string, isWithin: (id: string) => Promise<boolean>): Promise<void> => {
    const named = id(name);
    if (named === null || !(await isWithin(named))) throw missing(`${name[0]?.toUpperCase()}${name.slice(1)} "${param(name).slice(0, 40)}"`);
  };
  const needLabels = (given: readonly string[] | undefined): void => {
    if (!given?.some((label) => labels.includes(label))) throw outside('Give the connection one of these labels.');
  };
  switch (rule.limit) {
    case 'installation':
      throw outside('This concerns the whole installation.');
    case 'connection': {
      await needConnections([param('connection')]);
      const given = BodyLabels.safeParse(body).data?.labels;
      if (given !== undefined) needLabels(given); // a change of labels must not take it out of reach
      return;
    }
    case 'caller':
      if (!(await limits.callersWithin([param('caller')], labels)).has(param('caller'))) throw missing(`Caller "${param('caller')}"`);
      return;
    case 'permission': {
      const named = Permitted.safeParse(body).data;
      if (named?.label !== undefined && !labels.includes(named.label)) throw outside('Choose one of these labels.');
      if (named?.connection !== undefined) await needConnections([named.connection]);
      if (!(await limits.callersWithin([param('caller')], labels)).has(param('caller'))) throw missing(`Caller "${param('caller')}"`);
      return;
    }
    case 'job':
      if (!(await limits.isJobWithin(param('job'), labels))) throw missing(`Job "${param('job')}"`);
      return;
    case 'run':
      return ofId('run', (one) => limits.isRunWithin(one, labels));
    case 'consent':
      return ofId('consent', (one) => limits.isConsentWithin(one, labels));
    case 'invitation':
      return ofId('invitation', (one) => limits.isInvitationWithin(one, labels));
    case 'notice':
      return ofId('notice', async (one) => (await s.store.notices.byId(one))?.labels.some((label) => labels.includes(label)) ?? false);
    case 'body_connection': {
      const named = BodyConnection.safeParse(body).data;
      return named ? needConnections([named.connection]) : undefined; // sign-in for tools is answered without one where it is refused
    }
    case 'body_names': {
      const named = BodyNames.safeParse(body).data;
      if (named?.action === 'remove_label' && named.label !== undefined && labels.includes(named.label))
        throw outside('Taking this label away would take the connections out of your reach.');
      return needConnections(named?.connections ?? []);
    }
    case 'body_labels':
      return needLabels(BodyLabels.safeParse(body).data?.labels);
    case 'subject': {
      const named = Subject.safeParse(query).data;
      const connection = named?.connection ?? /^connection:(.+)$/.exec(named?.subject ?? '')?.[1];
      if (connection === undefined) throw outside('Choose one connection.');
      return needConnections([connection]);
    }
    default:
      return rule.limit satisfies never;
  }
}
