import type { z } from 'zod';
import type { AnswerOf, OperationName, Operations } from '../../api/operations.ts';
import { Fault } from '../../core/fault.ts';
import type { Consents } from '../consent/consents.ts';
import { takeOver } from '../consent/take-over.ts';
import type { Door } from '../door/door.ts';
import type { KnownCaller } from '../handout/caller-directory.ts';
import { checkAgreement } from '../registry/agreement.ts';
import { changeAnswers, showAnswers } from '../registry/answers.ts';
import * as approvals from '../registry/approvals.ts';
import { listUsage } from '../registry/caller-uses.ts';
import * as callers from '../registry/callers.ts';
import { chooseScopes } from '../registry/choose-scopes.ts';
import * as certificates from '../registry/client-certificates.ts';
import { notepad } from '../registry/client-notepad.ts';
import * as secrets from '../registry/client-secrets.ts';
import * as clients from '../registry/clients.ts';
import { probeConnection } from '../registry/connection-calls.ts';
import { showConnection } from '../registry/connection-view.ts';
import * as connections from '../registry/connections.ts';
import { draftProvider } from '../registry/drafts.ts';
import type { Operators, SignedInOperator } from '../registry/operators.ts';
import { listOwnCalls, listOwnConnections } from '../registry/own.ts';
import * as providers from '../registry/providers.ts';
import { showQuota } from '../registry/quota-view.ts';
import * as replicas from '../registry/replicas.ts';
import { retryRevocation, revokeConnection } from '../registry/revoke.ts';
import { removeCall, saveCall } from '../registry/saved-calls.ts';
import { iso, type Services } from '../registry/services.ts';
import { listSheets } from '../registry/sheets.ts';
import { decideStandby, giveKey } from '../registry/standby.ts';
import { installationState, showStatus } from '../registry/status.ts';
import * as trying from '../registry/trying.ts';

type Output<N extends OperationName, K extends 'body' | 'query'> = Operations[N] extends Record<K, infer S extends z.ZodType> ? z.output<S> : undefined;

/** What a handler gets: everything parsed, and who asks. `operator` is empty where the access rule lets anyone in. */
export interface HandlerInput<N extends OperationName> {
  params: Record<string, string>;
  query: Output<N, 'query'>;
  body: Output<N, 'body'>;
  operator: SignedInOperator;
  address: string;
  /** What this browser got when somebody signed in with it before. */
  device: string | undefined;
  /** Who asks, where the access rule wants a caller. */
  caller: KnownCaller | null;
}
/** Goes into cookies, never into an answer's body. */
export interface NewSession {
  token: string;
  endsAt: number;
  device: string;
}
export type Handlers = { [N in OperationName]: (input: HandlerInput<N>) => Promise<AnswerOf<N> & { setSession?: NewSession | 'end' }> };

/** The router lets no one but a caller in where a caller is wanted. @throws {Fault} CALLER_UNKNOWN */
function known(caller: KnownCaller | null): KnownCaller {
  if (!caller) throw new Fault('CALLER_UNKNOWN');
  return caller;
}

/** One line for each operation: which function of the service answers it. */
export function handlers(s: Services, operators: Operators, consents: Consents, door: Door): Handlers {
  const sessionView = (operator: Pick<SignedInOperator, 'name' | 'endsAt'>) => ({
    operator: operator.name,
    ends_at: iso(operator.endsAt),
    installation: { public_url: s.settings.publicUrl, version: s.version },
  });
  const p = (input: { params: Record<string, string> }, name: string): string => input.params[name] ?? '';
  return {
    firstOperatorState: async () => ({ needed: await operators.isFirstNeeded() }),
    addFirstOperator: ({ body, address }) => operators.addFirst(body, address),
    async signIn({ body, address, device }) {
      const { token, operator, device: newDevice } = await operators.signIn(body, address, body.device ?? device);
      return body.keeps === 'token'
        ? { ...sessionView(operator), token, device: newDevice }
        : { ...sessionView(operator), setSession: { token, endsAt: operator.endsAt, device: newDevice } };
    },
    changePassword: ({ body, operator, address }) => operators.changePassword(operator, body, address),
    endOtherSessions: ({ operator }) => operators.endOtherSessions(operator),
    showSession: async ({ operator }) => sessionView(operator),
    signOut: async ({ operator }) => ({ ...(await operators.signOut(operator)), setSession: 'end' as const }),
    showStatus: () => showStatus(s),
    listHistory: async ({ query: { since, renewals, limit, ...query } }) => {
      const found = await s.history.list({
        ...query,
        renewals: renewals === 'true',
        limit: limit + 1,
        ...(since === undefined ? {} : { since: Date.parse(since) }),
      });
      return { items: found.slice(0, limit).map((event) => ({ ...event, at: iso(event.at) })), more: found.length > limit };
    },

    showInstallation: () => installationState(s),
    ownInstallation: async ({ operator }) => {
      await s.hold.own(operator.name);
      return installationState(s);
    },
    listReplicas: async () => ({ items: await replicas.listReplicas(s) }),
    adoptReplica: ({ body, operator }) => replicas.adoptReplica(s, body.folder, operator.name),

    listProviders: () => providers.listProviders(s),
    checkProvider: ({ body }) => providers.checkProvider(s, body),
    draftProvider: ({ body }) => draftProvider(s, body),
    addProvider: ({ body, operator }) => providers.addProvider(s, body.document, operator.name),
    showProvider: (input) => providers.showProvider(s, p(input, 'provider')),
    previewProvider: (input) => providers.previewProvider(s, p(input, 'provider'), input.body.document),
    changeProvider: (input) => providers.changeProvider(s, p(input, 'provider'), input.body, input.operator.name),
    listVersions: (input) => providers.listVersions(s, p(input, 'provider')),
    composeProvider: (input) => providers.composeProvider(s, p(input, 'provider'), input.body),
    chooseScopes: (input) => chooseScopes(s, p(input, 'provider'), input.body),
    removeProvider: (input) => providers.removeProvider(s, p(input, 'provider'), input.operator.name),

    listClients: () => clients.listClients(s),
    addClient: ({ body, operator }) => clients.addClient(s, body, operator.name),
    showClient: (input) => clients.showClient(s, p(input, 'provider'), p(input, 'client')),
    changeClient: (input) => clients.changeClient(s, p(input, 'provider'), p(input, 'client'), input.body, input.operator.name),
    removeClient: (input) => clients.removeClient(s, p(input, 'provider'), p(input, 'client'), input.operator.name),
    addSecret: (input) => secrets.addSecret(s, p(input, 'provider'), p(input, 'client'), input.body, input.operator.name),
    changeSecret: (input) => secrets.changeSecret(s, p(input, 'provider'), p(input, 'client'), p(input, 'secret'), input.body, input.operator.name),
    proveSecret: (input) => secrets.proveSecret(s, p(input, 'provider'), p(input, 'client'), p(input, 'secret'), input.operator.name),
    retireSecret: (input) => secrets.retireSecret(s, p(input, 'provider'), p(input, 'client'), p(input, 'secret'), input.operator.name),
    makeCertificate: (input) => certificates.makeCertificate(s, p(input, 'provider'), p(input, 'client'), input.body, input.operator.name),
    showCertificate: (input) => certificates.showCertificate(s, p(input, 'provider'), p(input, 'client'), p(input, 'secret')),
    compareThumbprint: (input) => certificates.checkThumbprint(s, p(input, 'provider'), p(input, 'client'), p(input, 'secret'), input.body),
    confirmOrigins: (input) =>
      clients.confirmOrigins(s, operators, p(input, 'provider'), p(input, 'client'), input.body.password, input.operator, input.address),
    sortNotepad: (input) => notepad(s, p(input, 'provider'), p(input, 'client'), input.body, input.operator.name),
    checkRedirectUri: (input) => clients.checkRedirectUri(s, p(input, 'provider'), p(input, 'client'), input.body.registered, input.operator.name),
    recordRequest: (input) => approvals.recordRequest(s, p(input, 'provider'), p(input, 'client'), input.body, input.operator.name),
    checkApproval: (input) => approvals.checkApproval(s, p(input, 'provider'), p(input, 'client'), input.operator.name),
    showAnswers: () => showAnswers(s),
    changeAnswers: ({ body, operator }) => changeAnswers(s, body, operator.name),

    listConnections: ({ query }) => connections.listConnections(s, query),
    addConnection: ({ body, operator }) => connections.addConnection(s, body, operator.name),
    showConnection: (input) => showConnection(s, p(input, 'connection')),
    changeConnection: (input) => connections.changeConnection(s, p(input, 'connection'), input.body, input.operator.name),
    removeConnection: (input) => connections.removeConnection(s, p(input, 'connection'), input.operator.name),
    openConnection: (input) => consents.open(p(input, 'connection'), input.body, input.operator.name),
    renewConnection: (input) => connections.renewConnection(s, p(input, 'connection'), input.operator.name),
    pauseConnection: (input) => connections.pauseConnection(s, p(input, 'connection'), input.operator.name),
    resumeConnection: (input) => connections.resumeConnection(s, p(input, 'connection'), input.operator.name),
    takeOver: (input) => takeOver(s, consents, p(input, 'connection'), input.body, input.operator.name),
    async giveKey(input) {
      await giveKey(s, p(input, 'connection'), input.body.key, input.operator.name);
      return showConnection(s, p(input, 'connection'));
    },
    decideStandby: (input) => decideStandby(s, p(input, 'connection'), input.body, input.operator.name),
    checkAgreement: (input) => checkAgreement(s, p(input, 'connection'), input.operator.name),
    retryRevocation: (input) => retryRevocation(s, p(input, 'connection'), input.operator.name),
    revokeConnection: (input) => revokeConnection(s, p(input, 'connection'), input.operator.name),
    probeConnection: (input) => probeConnection(s, p(input, 'connection'), input.body, input.operator.name),
    listAttempts: (input) => connections.listAttempts(s, p(input, 'connection')),
    giveCode: (input) => consents.giveCode(p(input, 'consent'), input.body.code),
    answerConsent: (input) => consents.answer(p(input, 'consent'), input.body.pasted, input.operator.name),
    explainPage: (input) => consents.explain(p(input, 'consent'), input.body.page, input.operator.name),
    showConsent: (input) => consents.outcome(p(input, 'consent'), input.operator.name || null),

    listCallers: () => callers.listCallers(s),
    addCaller: ({ body, operator }) => callers.addCaller(s, body, operator.name),
    showCaller: (input) => callers.showCaller(s, p(input, 'caller')),
    changeCaller: (input) => callers.changeCaller(s, p(input, 'caller'), input.body, input.operator.name),
    removeCaller: (input) => callers.removeCaller(s, p(input, 'caller'), input.operator.name),
    addKey: (input) => callers.addKey(s, p(input, 'caller'), input.body, input.operator.name),
    retireKey: (input) => callers.retireKey(s, p(input, 'caller'), p(input, 'key'), input.operator.name),
    permitCaller: (input) => callers.permitCaller(s, p(input, 'caller'), input.body, input.operator.name),
    withdrawPermission: (input) => callers.withdrawPermission(s, p(input, 'caller'), p(input, 'permission'), input.operator.name),
    endSignIn: (input) => callers.endToolSignIn(s, p(input, 'caller'), p(input, 'sign_in'), input.operator.name),
    listSheets: (input) => listSheets(s, p(input, 'caller'), input.query.connection),
    listUsage: ({ query }) => listUsage(s, query),

    listOwnConnections: async ({ caller }) => listOwnConnections(s, known(caller)),
    listOwnCalls: async (input) => listOwnCalls(s, known(input.caller), p(input, 'connection')),

    showDoorRequest: (input) => door.show(p(input, 'request')),
    answerDoor: (input) => door.answer(p(input, 'request'), input.body.connection, input.operator.name),

    offeredCalls: (input) => trying.offeredCalls(s, p(input, 'connection')),
    callConnection: (input) => trying.callConnection(s, p(input, 'connection'), input.body, input.operator.name),
    saveCall: (input) => saveCall(s, p(input, 'connection'), input.body, input.operator.name),
    removeCall: (input) => removeCall(s, p(input, 'connection'), p(input, 'call'), input.operator.name),
    readCalls: (input) => trying.readCalls(s, p(input, 'connection'), input.body.text),
    writeCurl: (input) => trying.writeCurl(s, p(input, 'connection'), input.body),
    showQuota: (input) => showQuota(s, p(input, 'connection')),
  };
}
