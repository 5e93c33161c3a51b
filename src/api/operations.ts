import { z } from 'zod';
import { handingOverOperations } from './caller-operations.ts';
import { clientOperations } from './client-operations.ts';
import { HistoryEntry, Id, Instant } from './common.ts';
import { connectionOperations } from './connection-operations.ts';
import { jobOperations } from './job-operations.ts';
import { Done, list, type Operation } from './operation.ts';
import { ChangePassword, EndedSessions, FirstOperator, FirstOperatorState, Session, SignedIn, SignIn } from './operators.ts';
import { peopleOperations } from './people-operations.ts';
import { providerOperations } from './provider-operations.ts';
import { Statistics, StatisticsQuery } from './statistics.ts';
import { AdoptedReplica, AdoptReplica, InstallationState, Replica, Status } from './status.ts';
import { upcomingOperations } from './upcoming-operations.ts';

export type { Operation } from './operation.ts';

const HistoryQuery = z.object({
  subject: z.string().max(200).optional().describe('Such as connection:NAME, client:PROVIDER/NAME, caller:NAME'),
  kind: z.string().max(40).optional(),
  since: Instant.optional(),
  before: Id.optional().describe('The ID of the last entry shown; returns entries before it'),
  renewals: z.enum(['true', 'false']).default('false').describe('Include routine renewals'),
  limit: z.coerce.number().int().min(1).max(500).default(100),
});
const HistoryList = z.object({ items: z.array(HistoryEntry), more: z.boolean().describe('More entries exist before the last one') });

/** The whole contract: the service routes from it, the client calls by it, the OpenAPI document is made from it. */
export const operations = {
  firstOperatorState: {
    method: 'GET',
    path: '/api/v1/operators/first',
    access: 'anyone',
    says: 'Is the first operator still to be made?',
    answer: FirstOperatorState,
  },
  addFirstOperator: {
    method: 'POST',
    path: '/api/v1/operators/first',
    access: 'anyone',
    says: 'Make the first operator with the one-time ticket',
    body: FirstOperator,
    answer: Done,
  },
  signIn: { method: 'POST', path: '/api/v1/session', access: 'anyone', says: 'Sign in', body: SignIn, answer: SignedIn },
  showSession: { method: 'GET', path: '/api/v1/session', access: 'operator', says: 'Who is signed in?', answer: Session },
  signOut: { method: 'DELETE', path: '/api/v1/session', access: 'operator', says: 'Sign out', answer: Done },
  changePassword: {
    method: 'POST',
    path: '/api/v1/session/password',
    access: 'operator',
    says: 'Change your own password; your other sessions end',
    body: ChangePassword,
    answer: EndedSessions,
  },
  endOtherSessions: { method: 'DELETE', path: '/api/v1/session/others', access: 'operator', says: 'End your other sessions', answer: EndedSessions },
  showStatistics: {
    method: 'GET',
    path: '/api/v1/statistics',
    access: 'operator',
    says: 'Renewals, failures, tokens and calls by the hour: of all, of one connection, or of one caller',
    query: StatisticsQuery,
    answer: Statistics,
  },
  showStatus: { method: 'GET', path: '/api/v1/status', access: 'operator', says: 'What works, what is degraded, where action is needed', answer: Status },
  listHistory: {
    method: 'GET',
    path: '/api/v1/history',
    access: 'operator',
    says: 'History, newest first; routine renewals are left out by default',
    query: HistoryQuery,
    answer: HistoryList,
  },

  showInstallation: {
    method: 'GET',
    path: '/api/v1/installation',
    access: 'operator',
    says: 'Are renewals held, because a second installation may renew the same grants?',
    answer: InstallationState,
  },
  ownInstallation: {
    method: 'POST',
    path: '/api/v1/installation/own',
    access: 'operator',
    says: 'Say that this installation owns the grants: renewals go on',
    answer: InstallationState,
  },
  listReplicas: { method: 'GET', path: '/api/v1/replicas', access: 'operator', says: 'List replicas of the last day', answer: list(Replica) },
  adoptReplica: {
    method: 'POST',
    path: '/api/v1/replicas/adopt',
    access: 'operator',
    says: 'Save the answers that a dead replica left in its data folder',
    body: AdoptReplica,
    answer: AdoptedReplica,
  },

  ...providerOperations,
  ...clientOperations,
  ...connectionOperations,
  ...handingOverOperations,
  ...jobOperations,
  ...peopleOperations,
  ...upcomingOperations,
} as const satisfies Record<string, Operation>;

export type Operations = typeof operations;
export type OperationName = keyof Operations;
const isOperation = (name: string): name is OperationName => Object.hasOwn(operations, name);
export const operationNames: readonly OperationName[] = Object.keys(operations).filter(isOperation);
export type BodyOf<N extends OperationName> = Operations[N] extends { body: infer B extends z.ZodType } ? z.input<B> : undefined;
export type AnswerOf<N extends OperationName> = z.output<Operations[N]['answer']>;
