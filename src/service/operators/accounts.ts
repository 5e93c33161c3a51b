import type { z } from 'zod';
import type { ChangeOperator, InviteOperator, JoinOperator, JoinShown, OperatorLink, OperatorShown, OperatorSummary } from '../../api/operators.ts';
import type { Role } from '../../api/roles.ts';
import { Fault } from '../../core/fault.ts';
import { base64url } from '../../core/identifiers.ts';
import { hashOf } from '../hash.ts';
import { iso } from '../iso.ts';
import type { SignedInOperator } from '../operation-call.ts';
import { recordId } from '../ports.ts';
import type { OperatorRow, TicketRow } from '../store/operators.ts';
import type { OperatorParts } from './parts.ts';
import type { Passwords } from './passwords.ts';
import type { SecondFactors } from './second-factors.ts';
import { operatorView, sessionView } from './views.ts';

const LINK_MS = 3 * 86_400_000;

/** A row for someone who cannot sign in yet. */
export const newOperator = (
  s: Pick<OperatorParts, 'ports'>,
  { name, role, limits, invitedBy = null }: { name: string; role: Role; limits: string[]; invitedBy?: string | null },
): OperatorRow => ({
  ...{ id: recordId(s.ports), name, passwordHash: '', createdAt: s.ports.clock.now(), role, limits, state: 'invited', source: 'local' },
  ...{ subject: null, invitedBy, lastSeenAt: null, revision: 1 },
});

const limited = (labels: readonly string[]): string => (labels.length === 0 ? '' : `, limited to ${labels.join(', ')}`);
const lastOne = () => new Fault('LAST_ADMINISTRATOR', { detail: 'Nobody who can sign in with a password and change everything would be left.' });

/** Who may sign in: invited, changed, disabled and removed by administrators. */
export function accounts(s: OperatorParts, { factors, guard }: { factors: SecondFactors; guard: Passwords }) {
  const { operators: store, sessions } = s.store;
  const note = (actor: string, kind: string, operator: string, entry: { says: string; data?: Record<string, unknown> }): void =>
    s.history.add({ actor, kind, subject: `operator:${operator}`, ...entry });
  const found = async (name: string): Promise<OperatorRow> => {
    const row = await store.byName(name);
    if (!row || row.state === 'removed') throw new Fault('NOT_FOUND', { detail: `Operator "${name}" not found.` });
    return row;
  };
  const linkFor = async (row: OperatorRow, data: Record<string, unknown>): Promise<z.output<typeof OperatorLink>> => {
    const ticket = base64url(s.ports.random.bytes(24));
    const endsAt = s.ports.clock.now() + LINK_MS;
    const fresh: TicketRow = { id: recordId(s.ports), kind: 'operator', hash: hashOf(ticket), endsAt, spentAt: null, operatorId: row.id, data, tries: 0 };
    await store.replaceTicket(fresh);
    return { operator: row.name, url: `${s.publicUrl}/#/join/${ticket}`, ends_at: iso(endsAt) };
  };
  const opened = async (ticket: string, address: string): Promise<{ ticket: TicketRow; row: OperatorRow }> => {
    guard.enterNetwork(address);
    const kept = await store.ticket('operator', hashOf(ticket));
    const row = kept?.operatorId ? await store.byId(kept.operatorId) : null;
    if (!kept || !row || row.state === 'removed' || row.state === 'disabled')
      throw new Fault('TICKET_SPENT', { remedy: 'Ask an administrator for a new link.' });
    return { ticket: kept, row };
  };
  const shown = async (name: string): Promise<z.output<typeof OperatorShown>> => {
    const row = (await store.list()).find((one) => one.name === name);
    if (!row) throw new Fault('NOT_FOUND', { detail: `Operator "${name}" not found.` });
    return { ...operatorView(row), session_list: (await sessions.ofOperator(row.id)).map((one) => sessionView(one, null)) };
  };
  return {
    /** To an account that is limited, the limits of others name what it may not see. */
    list: async (by: Pick<SignedInOperator, 'name' | 'labels'>): Promise<{ items: OperatorSummary[] }> => ({
      items: (await store.list()).map((row) => ({ ...operatorView(row), ...(by.labels.length > 0 && row.name !== by.name ? { labels: [] } : {}) })),
    }),
    show: shown,
    /** @throws {Fault} NAME_TAKEN */
    async invite(input: z.output<typeof InviteOperator>, by: SignedInOperator) {
      const row = newOperator(s, { name: input.name, role: input.role, limits: input.labels, invitedBy: by.name });
      if (await store.byName(input.name))
        throw new Fault('NAME_TAKEN', { detail: `Operator "${input.name}" exists or existed. Names stay in the activity log, so they are not used again.` });
      await store.add(row);
      note(by.name, 'operator_invited', input.name, { says: `Invited ${input.name} as ${input.role}${limited(input.labels)}.` });
      return linkFor(row, { reset: false });
    },
    /** A link for a new password; second factors and sessions end once it is used. @throws {Fault} NOT_FOUND, INPUT_INVALID */
    async reset(name: string, by: SignedInOperator) {
      const row = await found(name);
      if (row.state === 'disabled')
        throw new Fault('INPUT_INVALID', { detail: `${name} is disabled.`, remedy: `Enable the account first: \`rk operator change ${name} --enable\`.` });
      if (row.source === 'identity_provider')
        throw new Fault('INPUT_INVALID', { detail: `${name} signs in at the identity provider.`, remedy: 'Reset the password at the identity provider.' });
      note(by.name, 'operator_reset', name, { says: `Made a link with which ${name} sets a new password.` });
      return linkFor(row, { reset: row.state === 'active' });
    },
    /**
     * For whoever controls the machine: makes this account an active administrator without limits, with a link for a new password.
     * @throws {Fault} NOT_FOUND
     */
    async rescue(name: string): Promise<string> {
      const row = await found(name);
      await store.change(row.id, { role: 'administrator', limits: [], state: row.passwordHash === '' ? 'invited' : 'active', source: 'local', subject: null });
      note('service', 'operator_rescued', name, {
        says: `Made ${name} an administrator with a one-time link, because the service was started with RUSTY_KETTLE_RESCUE.`,
      });
      return (await linkFor(row, { reset: true })).url;
    },
    /**
     * The account of someone who signed in at the identity provider: made at the first time; role and limits follow the groups.
     * @throws {Fault} SIGN_IN_REFUSED where another account has the name: it is never taken for the same person
     */
    async fromIdentityProvider({
      known,
      subject,
      name: stated,
      unnamed,
      role,
      labels,
    }: {
      known: OperatorRow | null;
      subject: string;
      /** As the provider names the person; null: it does not. */
      name: string | null;
      unnamed: string;
      role: Role;
      labels: string[];
    }): Promise<OperatorRow> {
      if (known) {
        const isChanged = known.role !== role || known.limits.join(' ') !== labels.join(' ');
        if (isChanged) {
          await store.change(known.id, { role, limits: labels });
          note('identity provider', 'operator_changed', known.name, { says: `By groups, ${known.name} is ${role} now${limited(labels)}.` });
        }
        // The provider may name the person only now.
        const isNamedNow = known.name === unnamed && stated !== null && (await store.byName(stated)) === null;
        if (isNamedNow) {
          await store.rename(known.id, unnamed, stated);
          note('identity provider', 'operator_changed', stated, { says: `${unnamed} is called ${stated} now.` });
        }
        return { ...known, role, limits: labels, name: isNamedNow ? stated : known.name };
      }
      const name = stated ?? unnamed;
      if (await store.byName(name))
        throw new Fault('SIGN_IN_REFUSED', {
          detail: `Another account here is called ${name}, and you are not it: the provider names you by another subject.`,
          remedy: 'Ask an administrator. Accounts are not joined by name or e-mail address: whoever could choose those could take them over.',
        });
      const row: OperatorRow = { ...newOperator(s, { name, role, limits: labels }), state: 'active', source: 'identity_provider', subject };
      await store.add(row);
      note('identity provider', 'operator_added', name, { says: `First sign-in at the identity provider: ${name} is ${role}${limited(labels)}.` });
      return row;
    },
    async showJoin(ticket: string, address: string): Promise<z.output<typeof JoinShown>> {
      const { ticket: kept, row } = await opened(ticket, address);
      return { operator: row.name, role: row.role, labels: row.limits, ends_at: iso(kept.endsAt), invited_by: row.invitedBy };
    },
    /** @throws {Fault} TICKET_SPENT */
    async join(input: z.output<typeof JoinOperator>, address: string): Promise<{ done: true }> {
      const { ticket, row } = await opened(input.ticket, address);
      const passwordHash = await s.hashing.hash(input.password);
      if (!(await store.useUpTicket(ticket.id))) throw new Fault('TICKET_SPENT');
      await store.change(row.id, { passwordHash, state: 'active' });
      if (ticket.data?.reset === true) {
        await factors.removeAll(row.id);
        await sessions.endAll(row.id);
      }
      const says = ticket.data?.reset === true ? 'Set a new password with a one-time link; second factors and sessions ended.' : 'Accepted the invitation.';
      note(row.name, 'operator_joined', row.name, { says: says });
      return { done: true };
    },
    /** @throws {Fault} NOT_FOUND, LAST_ADMINISTRATOR, REVISION_CONFLICT */
    async change(name: string, input: z.output<typeof ChangeOperator>, by: SignedInOperator) {
      const row = await found(name);
      const set: Partial<OperatorRow> = {
        ...(input.role === undefined ? {} : { role: input.role }),
        ...(input.labels === undefined ? {} : { limits: input.labels }),
        ...(input.disabled === undefined
          ? {}
          : { state: input.disabled ? 'disabled' : row.passwordHash === '' && row.source === 'local' ? 'invited' : 'active' }),
      };
      if (input.name !== undefined && input.name !== name && (await store.byName(input.name)))
        throw new Fault('NAME_TAKEN', { detail: `An operator called ${input.name} exists.` });
      const outcome = await store.changeUnlessLast(row.id, set, input.revision);
      if (outcome === 'conflict') throw new Fault('REVISION_CONFLICT');
      if (outcome === 'last') throw lastOne();
      if (input.disabled) await sessions.endAll(row.id);
      const called = input.name ?? name;
      if (called !== name) await store.rename(row.id, name, called);
      const words = [
        ...(called === name ? [] : [`called ${called}`]),
        ...(input.role === undefined ? [] : [`role ${input.role}`]),
        ...(input.labels === undefined ? [] : [input.labels.length === 0 ? 'no limits' : `limited to ${input.labels.join(', ')}`]),
        ...(input.disabled === undefined ? [] : [input.disabled ? 'disabled' : 'enabled']),
      ];
      const before = { name, role: row.role, labels: row.limits, state: row.state };
      note(by.name, 'operator_changed', name, {
        says: `Changed ${name}: ${words.join('; ') || 'nothing'}.`,
        data: { changes: { before, after: { name: called, role: set.role ?? row.role, labels: set.limits ?? row.limits, state: set.state ?? row.state } } },
      });
      return shown(called);
    },
    /** @throws {Fault} NOT_FOUND, LAST_ADMINISTRATOR */
    async remove(name: string, by: SignedInOperator): Promise<{ done: true }> {
      const row = await found(name);
      if ((await store.changeUnlessLast(row.id, { state: 'removed', passwordHash: '', subject: null })) === 'last') throw lastOne();
      await sessions.endAll(row.id);
      await factors.removeAll(row.id);
      note(by.name, 'operator_removed', name, { says: `Removed ${name}; sessions and personal tokens ended.` });
      return { done: true };
    },
    /** @throws {Fault} NOT_FOUND */
    async endSession(name: string, sessionId: string, by: SignedInOperator): Promise<{ done: true }> {
      const row = await found(name);
      const session = (await sessions.ofOperator(row.id)).find((one) => one.id === sessionId);
      if (!session) throw new Fault('NOT_FOUND', { detail: 'This session has ended.' });
      await sessions.endOf(row.id, sessionId);
      note(by.name, 'sessions_ended', name, {
        says: session.kind === 'token' ? `Revoked the personal token ${session.name ?? ''} of ${name}.` : `Ended a session of ${name}.`,
      });
      return { done: true };
    },
  };
}
