import type { z } from 'zod';
import { ActivityVerified, HistoryList, HistoryQuery, VerifyActivity } from './activity.ts';
import { backupOperations } from './backups.ts';
import { bundleOperations } from './bundles.ts';
import { callerOperations } from './caller-operations.ts';
import { clientOperations } from './client-operations.ts';
import { connectionOperations } from './connection-operations.ts';
import { identityOperations } from './identity.ts';
import { jobOperations } from './job-operations.ts';
import { keyOperations } from './keys.ts';
import { noticeOperations } from './notice-operations.ts';
import { list, type Operation } from './operation.ts';
import { operatorOperations } from './operator-operations.ts';
import { peopleOperations } from './people-operations.ts';
import { privilegeOperations } from './privilege.ts';
import { providerOperations } from './provider-operations.ts';
import { rehearsalOperations } from './rehearsal-operations.ts';
import { Breakdown, Statistics, StatisticsQuery } from './statistics.ts';
import { AdoptedReplica, AdoptReplica, InstallationRisks, InstallationState, LogLevelShown, Replica, SetLogLevel, Status } from './status.ts';
import { upcomingOperations } from './upcoming-operations.ts';

export type { Operation } from './operation.ts';

/** The whole contract: the service routes from it, the client calls by it, the OpenAPI document is made from it. */
export const operations = {
  ...operatorOperations,
  showBreakdown: {
    method: 'GET',
    path: '/api/v1/statistics/breakdown',
    access: 'operator',
    says: 'Busiest callers of the last 24 hours, most used quotas, last runs of jobs',
    answer: Breakdown,
  },
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
  verifyActivity: {
    method: 'POST',
    path: '/api/v1/history/verify',
    access: 'operator',
    says: 'Verify that no entry of the activity log was changed, removed or added in the database; a piece at a time',
    body: VerifyActivity,
    bodyOptional: true,
    answer: ActivityVerified,
  },

  listInstallationRisks: {
    method: 'GET',
    path: '/api/v1/installation/risks',
    access: 'operator',
    says: 'List what `own` risks: connections whose refresh token may be outdated, those that would be lost first; at most 200',
    answer: InstallationRisks,
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
  showLogLevel: { method: 'GET', path: '/api/v1/log-level', access: 'operator', says: 'Show the level of the log', answer: LogLevelShown },
  setLogLevel: {
    method: 'POST',
    path: '/api/v1/log-level',
    access: 'operator',
    says: 'Change the level of the log for a while, on all replicas that run',
    body: SetLogLevel,
    answer: LogLevelShown,
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
  ...callerOperations,
  ...jobOperations,
  ...peopleOperations,
  ...upcomingOperations,
  ...noticeOperations,
  ...rehearsalOperations,
  ...keyOperations,
  ...identityOperations,
  ...backupOperations,
  ...bundleOperations,
  ...privilegeOperations,
} as const satisfies Record<string, Operation>;

export type Operations = typeof operations;
export type OperationName = keyof Operations;
const isOperation = (name: string): name is OperationName => Object.hasOwn(operations, name);
export const operationNames: readonly OperationName[] = Object.keys(operations).filter(isOperation);
export type BodyOf<N extends OperationName> = Operations[N] extends { body: infer B extends z.ZodType } ? z.input<B> : undefined;
export type AnswerOf<N extends OperationName> = z.output<Operations[N]['answer']>;
