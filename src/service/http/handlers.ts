import type { AnswerOf, OperationName } from '../../api/operations.ts';
import type { Asked } from '../asked.ts';
import type { Consents } from '../consent/consents.ts';
import { takeOver } from '../consent/take-over.ts';
import type { Door } from '../door/door.ts';
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

/** Goes into cookies, never into an answer's body. */
export interface NewSession {
  token: string;
  endsAt: number;
  device: string;
}
/** What answers an operation; `setSession`: what becomes of the browser's session with it. */
export type Handlers = { [N in OperationName]: (asked: Asked<N>) => Promise<AnswerOf<N> & { setSession?: NewSession | 'end' }> };

/** One line for each operation: which function of the service answers it. */
export function handlers(s: Services, operators: Operators, consents: Consents, door: Door): Handlers {
  const sessionView = (operator: Pick<SignedInOperator, 'name' | 'endsAt'>) => ({
    operator: operator.name,
    ends_at: iso(operator.endsAt),
    installation: { public_url: s.settings.publicUrl, version: s.version },
  });
  return {
    firstOperatorState: async () => ({ needed: await operators.isFirstNeeded() }),
    addFirstOperator: ({ body, actor }) => operators.addFirst(body, actor.address),
    async signIn({ body, actor }) {
      const { token, operator, device: newDevice } = await operators.signIn(body, actor.address, body.device ?? actor.device);
      return body.keeps === 'token'
        ? { ...sessionView(operator), token, device: newDevice }
        : { ...sessionView(operator), setSession: { token, endsAt: operator.endsAt, device: newDevice } };
    },
    changePassword: ({ body, actor }) => operators.changePassword(actor.operator, body, actor.address),
    endOtherSessions: ({ actor }) => operators.endOtherSessions(actor.operator),
    showSession: async ({ actor }) => sessionView(actor.operator),
    signOut: async ({ actor }) => ({ ...(await operators.signOut(actor.operator)), setSession: 'end' as const }),
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
    ownInstallation: async ({ actor }) => {
      await s.hold.own(actor.operator.name);
      return installationState(s);
    },
    listReplicas: async () => ({ items: await replicas.listReplicas(s) }),
    adoptReplica: (asked) => replicas.adoptReplica(s, asked),

    listProviders: () => providers.listProviders(s),
    checkProvider: ({ body }) => providers.checkProvider(s, body),
    draftProvider: ({ body }) => draftProvider(s, body),
    addProvider: (asked) => providers.addProvider(s, asked),
    showProvider: ({ params }) => providers.showProvider(s, params.provider),
    previewProvider: ({ params, body }) => providers.previewProvider(s, params.provider, body.document),
    changeProvider: (asked) => providers.changeProvider(s, asked),
    listVersions: ({ params }) => providers.listVersions(s, params.provider),
    composeProvider: ({ params, body }) => providers.composeProvider(s, params.provider, body),
    chooseScopes: ({ params, body }) => chooseScopes(s, params.provider, body),
    removeProvider: (asked) => providers.removeProvider(s, asked),

    listClients: () => clients.listClients(s),
    addClient: (asked) => clients.addClient(s, asked),
    showClient: ({ params }) => clients.showClient(s, params.provider, params.client),
    changeClient: (asked) => clients.changeClient(s, asked),
    removeClient: (asked) => clients.removeClient(s, asked),
    addSecret: (asked) => secrets.addSecret(s, asked),
    changeSecret: (asked) => secrets.changeSecret(s, asked),
    proveSecret: (asked) => secrets.proveSecret(s, asked),
    retireSecret: (asked) => secrets.retireSecret(s, asked),
    makeCertificate: (asked) => certificates.makeCertificate(s, asked),
    showCertificate: ({ params }) => certificates.showCertificate(s, params.provider, params.client, params.secret),
    compareThumbprint: (asked) => certificates.checkThumbprint(s, asked),
    confirmOrigins: (asked) => clients.confirmOrigins(s, operators, asked),
    sortNotepad: (asked) => notepad(s, asked),
    checkRedirectUri: (asked) => clients.checkRedirectUri(s, asked),
    recordRequest: (asked) => approvals.recordRequest(s, asked),
    checkApproval: (asked) => approvals.checkApproval(s, asked),
    showAnswers: () => showAnswers(s),
    changeAnswers: (asked) => changeAnswers(s, asked),

    listConnections: ({ query }) => connections.listConnections(s, query),
    addConnection: (asked) => connections.addConnection(s, asked),
    showConnection: ({ params }) => showConnection(s, params.connection),
    changeConnection: (asked) => connections.changeConnection(s, asked),
    removeConnection: (asked) => connections.removeConnection(s, asked),
    openConnection: (asked) => consents.open(asked),
    renewConnection: (asked) => connections.renewConnection(s, asked),
    pauseConnection: (asked) => connections.pauseConnection(s, asked),
    resumeConnection: (asked) => connections.resumeConnection(s, asked),
    takeOver: (asked) => takeOver(s, consents, asked),
    async giveKey(asked) {
      await giveKey(s, asked);
      return showConnection(s, asked.params.connection);
    },
    decideStandby: (asked) => decideStandby(s, asked),
    checkAgreement: (asked) => checkAgreement(s, asked),
    retryRevocation: (asked) => retryRevocation(s, asked),
    revokeConnection: (asked) => revokeConnection(s, asked),
    probeConnection: (asked) => probeConnection(s, asked),
    listAttempts: ({ params }) => connections.listAttempts(s, params.connection),
    giveCode: ({ params, body }) => consents.giveCode(params.consent, body.code),
    answerConsent: ({ params, body, actor }) => consents.answer(params.consent, body.pasted, actor.operator.name),
    explainPage: ({ params, body, actor }) => consents.explain(params.consent, body.page, actor.operator.name),
    showConsent: ({ params, actor }) => consents.outcome(params.consent, actor.operator?.name ?? null),

    listCallers: () => callers.listCallers(s),
    addCaller: (asked) => callers.addCaller(s, asked),
    showCaller: ({ params }) => callers.showCaller(s, params.caller),
    changeCaller: (asked) => callers.changeCaller(s, asked),
    removeCaller: (asked) => callers.removeCaller(s, asked),
    addKey: (asked) => callers.addKey(s, asked),
    retireKey: (asked) => callers.retireKey(s, asked),
    permitCaller: (asked) => callers.permitCaller(s, asked),
    withdrawPermission: (asked) => callers.withdrawPermission(s, asked),
    endSignIn: (asked) => callers.endToolSignIn(s, asked),
    listSheets: ({ params, query }) => listSheets(s, params.caller, query.connection),
    listUsage: ({ query }) => listUsage(s, query),

    listOwnConnections: async ({ actor }) => listOwnConnections(s, actor.caller),
    listOwnCalls: async ({ params, actor }) => listOwnCalls(s, actor.caller, params.connection),

    showDoorRequest: ({ params }) => door.show(params.request),
    answerDoor: ({ params, body, actor }) => door.answer(params.request, body.connection, actor.operator.name),

    offeredCalls: ({ params }) => trying.offeredCalls(s, params.connection),
    callConnection: (asked) => trying.callConnection(s, asked),
    saveCall: (asked) => saveCall(s, asked),
    removeCall: (asked) => removeCall(s, asked),
    readCalls: ({ params, body }) => trying.readCalls(s, params.connection, body.text),
    writeCurl: ({ params, body }) => trying.writeCurl(s, params.connection, body),
    showQuota: ({ params }) => showQuota(s, params.connection),
  };
}
