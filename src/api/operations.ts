import { z } from 'zod';
import { AddCaller, AddKey, Caller, ChangeCaller, NewKey } from './callers.ts';
import { clientOperations } from './client-operations.ts';
import { CallAnswer, HistoryEntry } from './common.ts';
import {
  AddConnection,
  Attempt,
  CallRequest,
  ChangeConnection,
  Connection,
  ConnectionSummary,
  ConsentOutcome,
  ListConnections,
  OpenedConsent,
  PrintedCode,
  Revoked,
} from './connections.ts';
import { Done, list, type Operation } from './operation.ts';
import { FirstOperator, FirstOperatorState, Session, SignedIn, SignIn } from './operators.ts';
import {
  AddProvider,
  ChangeProvider,
  CheckedProvider,
  CheckProvider,
  ChooseScopes,
  ChosenScopes,
  ComposedProvider,
  ComposeProvider,
  DraftedProvider,
  DraftProvider,
  Provider,
  ProviderPreview,
  ProviderSummary,
  ProviderVersion,
} from './providers.ts';

import { AdoptedReplica, AdoptReplica, InstallationState, Replica, Status } from './status.ts';

export type { Access, Operation } from './operation.ts';
export const HistoryQuery = z.object({ subject: z.string().max(200).optional(), limit: z.coerce.number().int().min(1).max(500).default(100) });

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
  showStatus: { method: 'GET', path: '/api/v1/status', access: 'operator', says: 'What works, what struggles, what needs a person', answer: Status },
  listHistory: {
    method: 'GET',
    path: '/api/v1/history',
    access: 'operator',
    says: 'What happened, newest first',
    query: HistoryQuery,
    answer: list(HistoryEntry),
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

  listProviders: { method: 'GET', path: '/api/v1/providers', access: 'operator', says: 'List providers', answer: list(ProviderSummary) },
  checkProvider: {
    method: 'POST',
    path: '/api/v1/providers/check',
    access: 'operator',
    says: 'Check a definition without saving it',
    body: CheckProvider,
    answer: CheckedProvider,
  },
  draftProvider: {
    method: 'POST',
    path: '/api/v1/providers/draft',
    access: 'operator',
    says: 'Draft a definition from an issuer, an OpenAPI document, a short form or a file; nothing is saved',
    bodyLimit: '6mb',
    body: DraftProvider,
    answer: DraftedProvider,
  },
  addProvider: {
    method: 'POST',
    path: '/api/v1/providers',
    access: 'operator',
    says: 'Add a provider from its definition',
    body: AddProvider,
    answer: Provider,
  },
  showProvider: { method: 'GET', path: '/api/v1/providers/{provider}', access: 'operator', says: 'Show a provider', answer: Provider },
  previewProvider: {
    method: 'POST',
    path: '/api/v1/providers/{provider}/preview',
    access: 'operator',
    says: 'Show what a changed definition would do to clients and connections; nothing is saved',
    body: AddProvider,
    answer: ProviderPreview,
  },
  changeProvider: {
    method: 'PATCH',
    path: '/api/v1/providers/{provider}',
    access: 'operator',
    says: 'Save a changed definition; the old version is kept',
    body: ChangeProvider,
    answer: Provider,
  },
  listVersions: {
    method: 'GET',
    path: '/api/v1/providers/{provider}/versions',
    access: 'operator',
    says: 'List the versions of a definition, newest first',
    answer: list(ProviderVersion),
  },
  composeProvider: {
    method: 'POST',
    path: '/api/v1/providers/{provider}/compose',
    access: 'operator',
    says: 'Fill placeholders into the addresses; values may be read from the address of a page',
    body: ComposeProvider,
    answer: ComposedProvider,
  },
  chooseScopes: {
    method: 'POST',
    path: '/api/v1/providers/{provider}/scopes',
    access: 'operator',
    says: 'The weakest scopes that these operations need',
    body: ChooseScopes,
    answer: ChosenScopes,
  },
  removeProvider: { method: 'DELETE', path: '/api/v1/providers/{provider}', access: 'operator', says: 'Remove a provider that has no clients', answer: Done },

  ...clientOperations,

  listConnections: {
    method: 'GET',
    path: '/api/v1/connections',
    access: 'operator',
    says: 'List connections, a page at a time',
    query: ListConnections,
    answer: list(ConnectionSummary).extend({ total: z.number().int() }),
  },
  addConnection: { method: 'POST', path: '/api/v1/connections', access: 'operator', says: 'Add a connection', body: AddConnection, answer: Connection },
  showConnection: { method: 'GET', path: '/api/v1/connections/{connection}', access: 'operator', says: 'Show a connection', answer: Connection },
  changeConnection: {
    method: 'PATCH',
    path: '/api/v1/connections/{connection}',
    access: 'operator',
    says: 'Change what the next consent asks for',
    body: ChangeConnection,
    answer: Connection,
  },
  removeConnection: {
    method: 'DELETE',
    path: '/api/v1/connections/{connection}',
    access: 'operator',
    says: 'Remove a connection and forget its tokens',
    answer: Done,
  },
  openConnection: {
    method: 'POST',
    path: '/api/v1/connections/{connection}/consents',
    access: 'operator',
    says: 'Start a consent; the answer holds the link for the browser. A client that acts for itself asks at once',
    answer: OpenedConsent,
  },
  renewConnection: { method: 'POST', path: '/api/v1/connections/{connection}/renew', access: 'operator', says: 'Renew now', answer: Connection },
  pauseConnection: {
    method: 'POST',
    path: '/api/v1/connections/{connection}/pause',
    access: 'operator',
    says: 'Pause: no tokens are handed out, on any replica, within a second; it is kept alive meanwhile',
    answer: Connection,
  },
  resumeConnection: {
    method: 'POST',
    path: '/api/v1/connections/{connection}/resume',
    access: 'operator',
    says: 'Resume: renews first, then hands out again',
    answer: Connection,
  },
  revokeConnection: {
    method: 'POST',
    path: '/api/v1/connections/{connection}/revoke',
    access: 'operator',
    says: 'Tell the provider to end the grant, and forget its tokens here; the connection and its history stay',
    answer: Revoked,
  },
  probeConnection: {
    method: 'POST',
    path: '/api/v1/connections/{connection}/probe',
    access: 'operator',
    says: 'Make the call that proves the connection',
    answer: CallAnswer,
  },
  listAttempts: {
    method: 'GET',
    path: '/api/v1/connections/{connection}/attempts',
    access: 'operator',
    says: 'The last attempts to renew it, as they went over the wire, masked; newest first',
    answer: list(Attempt),
  },
  callConnection: {
    method: 'POST',
    path: '/api/v1/connections/{connection}/call',
    access: 'operator',
    says: 'Call the provider\u2019s API with the connection\u2019s token',
    body: CallRequest,
    answer: CallAnswer,
  },
  giveCode: {
    method: 'POST',
    path: '/api/v1/consents/{consent}/code',
    access: 'operator',
    says: 'Give the code that the provider\u2019s console printed; it is exchanged at once',
    body: PrintedCode,
    answer: ConsentOutcome,
  },
  showConsent: { method: 'GET', path: '/api/v1/consents/{consent}', access: 'consent_or_operator', says: 'How a consent went', answer: ConsentOutcome },

  listCallers: { method: 'GET', path: '/api/v1/callers', access: 'operator', says: 'List callers', answer: list(Caller) },
  addCaller: {
    method: 'POST',
    path: '/api/v1/callers',
    access: 'operator',
    says: 'Add a caller; the answer holds its first key, once',
    body: AddCaller,
    answer: NewKey,
  },
  showCaller: { method: 'GET', path: '/api/v1/callers/{caller}', access: 'operator', says: 'Show a caller', answer: Caller },
  changeCaller: {
    method: 'PATCH',
    path: '/api/v1/callers/{caller}',
    access: 'operator',
    says: 'Change a caller\u2019s title or connections',
    body: ChangeCaller,
    answer: Caller,
  },
  removeCaller: { method: 'DELETE', path: '/api/v1/callers/{caller}', access: 'operator', says: 'Remove a caller and its keys', answer: Done },
  addKey: {
    method: 'POST',
    path: '/api/v1/callers/{caller}/keys',
    access: 'operator',
    says: 'Add a key; the answer holds it, once',
    body: AddKey,
    answer: NewKey,
  },
  retireKey: { method: 'DELETE', path: '/api/v1/callers/{caller}/keys/{key}', access: 'operator', says: 'Retire a key', answer: Caller },
} as const satisfies Record<string, Operation>;

export type Operations = typeof operations;
export type OperationName = keyof Operations;
export type BodyOf<N extends OperationName> = Operations[N] extends { body: infer B extends z.ZodType } ? z.input<B> : undefined;
export type AnswerOf<N extends OperationName> = z.output<Operations[N]['answer']>;
