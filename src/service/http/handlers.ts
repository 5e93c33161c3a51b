import type { AnswerOf, OperationName } from '../../api/operations.ts';
import { counted } from '../../core/counted.ts';
import * as backup from '../backup/index.ts';
import * as bundle from '../bundle/index.ts';
import * as callers from '../callers/index.ts';
import * as clients from '../clients/index.ts';
import * as connections from '../connections/index.ts';
import { type Consents, importToken } from '../consent/index.ts';
import * as forecast from '../forecast/index.ts';
import { verifyActivity } from '../history/index.ts';
import type { IdentitySignIn } from '../identity/index.ts';
import { iso, isoOrNull } from '../iso.ts';
import * as jobs from '../jobs/index.ts';
import * as keys from '../keys/index.ts';
import * as notices from '../notices/index.ts';
import { type Asked, type Limits, limitsOf, type SignedInOperator } from '../operation-call.ts';
import { checkRole, type NewSession, type Operators, refusedTo } from '../operators/index.ts';
import * as people from '../people/index.ts';
import * as privilege from '../privilege/index.ts';
import * as providers from '../providers/index.ts';
import * as rehearsals from '../rehearsals/index.ts';
import * as replicas from '../replicas/index.ts';
import { installationState, listInstallationRisks, ownInstallation, showBreakdown, showStatistics, showStatus } from '../status/index.ts';
import type { SignInRequests } from '../tool-sign-ins/index.ts';
import { listUsage } from '../usage/index.ts';
import type { HttpParts } from './parts.ts';

/** What answers an operation; `setSession`: what becomes of the browser's session with it. It goes into cookies, never into an answer's body. */
export type Handlers = {
  [N in OperationName]: (asked: Asked<N>) => Promise<AnswerOf<N> & { setSession?: { token: string; endsAt: number; device: string } | 'end' }>;
};

/** One line for each operation: which function of the service answers it. */
export function handlers(
  s: HttpParts,
  { operators, identity }: { operators: Operators; identity: IdentitySignIn },
  consents: Consents,
  signInRequests: SignInRequests,
): Handlers {
  const sessionView = (operator: Pick<SignedInOperator, 'name' | 'endsAt' | 'role' | 'labels'>) => ({
    operator: operator.name,
    role: operator.role,
    labels: [...operator.labels],
    refused: refusedTo(operator),
    ends_at: iso(operator.endsAt),
    installation: { public_url: s.settings.publicUrl, version: s.version, practice: s.isPractice },
  });
  const begun = ({ token, operator, device }: NewSession) =>
    operator.kind === 'program'
      ? { ...sessionView(operator), token, device }
      : { ...sessionView(operator), setSession: { token, endsAt: operator.endsAt, device } };
  const logLevel = () => {
    const { until, ...shown } = s.logLevel.show();
    return { ...shown, until: isoOrNull(until) };
  };
  // Commands change; where the contract promises the page of what was changed, it is read afterwards.
  const then =
    <P, T>(show: (params: P, limits: Limits) => Promise<T>) =>
    <A extends { params: P; actor: { operator: SignedInOperator } }>(command: (asked: A) => Promise<void>) =>
    async (asked: A) => {
      await command(asked);
      return show(asked.params, limitsOf(asked.actor.operator));
    };
  const thenClient = then((params: { provider: string; client: string }) => clients.showClient(s, params.provider, params.client));
  const thenConnection = then((params: { connection: string }, limits) => connections.showConnection(s, params.connection, limits));
  const thenCaller = then((params: { caller: string }, limits) => callers.showCaller(s, params.caller, limits));
  return {
    firstOperatorState: async () => ({ needed: await operators.isFirstNeeded() }),
    addFirstOperator: ({ body, actor }) => operators.addFirst(body, actor.address),
    signIn: async ({ body, actor }) => begun(await operators.signIn(body, actor)),
    finishSignIn: async ({ body, actor }) => begun(await operators.finishSignIn(body, actor)),
    startConfirmation: ({ actor }) => operators.startConfirmation(actor.operator),
    confirmIdentity: ({ body, actor }) => operators.confirm(actor.operator, body, actor),
    showAccount: ({ actor }) => operators.account(actor.operator),
    endOwnSession: ({ params, actor }) => operators.endOwnSession(actor.operator, params.session),
    addPersonalToken: ({ body, actor }) => operators.addToken(actor.operator, body, actor),
    startAuthenticator: ({ body, actor }) => operators.startAuthenticator(actor.operator, body.name),
    startPasskey: ({ body, actor }) => operators.startPasskey(actor.operator, body.name),
    finishSecondFactor: ({ params, body, actor }) => operators.finishFactor(actor.operator, params.factor, body),
    removeSecondFactor: ({ params, actor }) => operators.removeFactor(actor.operator, params.factor),
    renewRecoveryCodes: ({ actor }) => operators.renewRecoveryCodes(actor.operator),
    listOperators: ({ actor }) => operators.list(actor.operator),
    showOperator: ({ params }) => operators.show(params.operator),
    inviteOperator: ({ body, actor }) => operators.invite(body, actor.operator),
    showJoin: ({ body, actor }) => operators.showJoin(body.ticket, actor.address),
    joinOperator: ({ body, actor }) => operators.join(body, actor.address),
    changeOperator: ({ params, body, actor }) => operators.change(params.operator, body, actor.operator),
    resetOperator: ({ params, actor }) => operators.reset(params.operator, actor.operator),
    removeOperator: ({ params, actor }) => operators.remove(params.operator, actor.operator),
    endOperatorSession: ({ params, actor }) => operators.endSession(params.operator, params.session, actor.operator),
    changePassword: ({ body, actor }) => operators.changePassword(actor.operator, body, actor.address),
    endOtherSessions: ({ actor }) => operators.endOtherSessions(actor.operator),
    showSession: async ({ actor }) => sessionView(actor.operator),
    signOut: async ({ actor }) => ({ ...(await operators.signOut(actor.operator)), setSession: 'end' as const }),
    showStatus: (asked) => showStatus(s, asked),
    showBreakdown: () => showBreakdown(s),
    showStatistics: ({ query }) => showStatistics(s, query),
    listHistory: async ({ query: { since, until, renewals, limit, purpose, ...query }, actor }) => {
      if (purpose === 'export') checkRole(actor.operator, { role: 'operator' });
      if (purpose === 'export' && query.before === undefined)
        s.history.add({ actor: actor.operator.name, kind: 'activity_exported', subject: 'installation', says: 'Exported entries of the activity log.' });
      // A name may have belonged to another object before: what an account that is limited may see began with this one.
      const madeAt = limitsOf(actor.operator) === undefined ? null : await s.store.limits.madeAt(query.subject ?? '');
      const from = Math.max(since === undefined ? Number.NEGATIVE_INFINITY : Date.parse(since), madeAt ?? Number.NEGATIVE_INFINITY);
      const found = await s.history.list({
        ...query,
        renewals: renewals === 'true',
        limit: limit + 1,
        ...(from === Number.NEGATIVE_INFINITY ? {} : { since: from }),
        ...(until === undefined ? {} : { until: Date.parse(until) }),
      });
      return {
        items: found.slice(0, limit).map(({ requestId, ...event }) => ({ ...event, at: iso(event.at), request_id: requestId })),
        more: found.length > limit,
      };
    },
    verifyActivity: ({ body }) => verifyActivity({ chains: s.store.chains, key: s.activityKey }, body.cursor),

    listInstallationRisks: () => listInstallationRisks(s),
    showInstallation: () => installationState(s),
    ownInstallation: (asked) => ownInstallation(s, asked),
    showKeys: () => keys.showKeys(s),
    rotateKeys: (asked) => keys.rotateKeys(s, asked),
    listBackups: () => backup.listBackups(s),
    startBackup: (asked) => backup.startBackup(s, asked),
    reportPractice: (asked) => backup.reportPractice(s, asked),
    showPractice: () => backup.showPractice(s),
    showBackup: ({ params }) => backup.showBackup(s, params.backup),
    removeBackup: (asked) => backup.removeBackup(s, asked),
    showBackupPlan: () => backup.showBackupPlan(s),
    setBackupPlan: (asked) => backup.setBackupPlan(s, asked),
    removeBackupPlan: (asked) => backup.removeBackupPlan(s, asked),
    exportBundle: ({ actor }) => bundle.exportFiles(s, actor.operator.name),
    compareBundle: ({ body }) => bundle.compareFiles(s, body),
    importBundle: (asked) => bundle.importBundle(s, asked),
    exportBundleSecrets: (asked) => bundle.exportSecrets(s, asked),
    importBundleSecrets: (asked) => bundle.importSecrets(s, asked),
    showPrivilege: () => privilege.showPrivilege(s),
    exportPrivilege: (asked) => privilege.exportPrivilege(s, asked),
    signInOffers: () => identity.offers(),
    showIdentityProvider: () => identity.show(),
    setIdentityProvider: ({ body, actor }) => identity.set(body, actor.operator),
    removeIdentityProvider: ({ actor }) => identity.remove(actor.operator),
    showLogLevel: async () => logLevel(),
    async setLogLevel({ body, actor }) {
      await s.logLevel.set(body.level, body.minutes);
      const says = `Set the log level to ${body.level} for ${counted(body.minutes, 'minute')}.`;
      s.history.add({ actor: actor.operator.name, kind: 'log_level_changed', subject: 'installation', says });
      return logLevel();
    },
    listReplicas: async () => ({ items: await replicas.listReplicas(s) }),
    adoptReplica: (asked) => replicas.adoptReplica(s, asked),

    listProviders: ({ actor }) => providers.listProviders(s, limitsOf(actor.operator)),
    checkProvider: ({ body }) => providers.checkProvider(s, body),
    draftProvider: ({ body }) => providers.draftProvider(s, body),
    addProvider: async (asked) => providers.showProvider(s, await providers.addProvider(s, asked)),
    showProvider: ({ params, actor }) => providers.showProvider(s, params.provider, limitsOf(actor.operator)),
    previewProvider: ({ params, body }) => clients.previewProvider(s, params.provider, body.document),
    async changeProvider(asked) {
      await clients.changeProvider(s, asked);
      return providers.showProvider(s, asked.params.provider);
    },
    listVersions: ({ params }) => providers.listVersions(s, params.provider),
    composeProvider: ({ params, body }) => providers.composeProvider(s, params.provider, body),
    chooseScopes: ({ params, body }) => clients.chooseScopes(s, params.provider, body),
    removeProvider: (asked) => providers.removeProvider(s, asked),

    listClients: ({ actor }) => clients.listClients(s, limitsOf(actor.operator)),
    async addClient(asked) {
      await clients.addClient(s, asked);
      return clients.showClient(s, asked.body.provider, asked.body.name);
    },
    showClient: ({ params, actor }) => clients.showClient(s, params.provider, params.client, limitsOf(actor.operator)),
    changeClient: thenClient((asked) => clients.changeClient(s, asked)),
    removeClient: (asked) => clients.removeClient(s, asked),
    addSecret: thenClient((asked) => clients.addSecret(s, asked)),
    changeSecret: thenClient((asked) => clients.changeSecret(s, asked)),
    verifySecret: thenClient((asked) => clients.verifySecret(s, asked)),
    retireSecret: thenClient((asked) => clients.retireSecret(s, asked)),
    makeCertificate: thenClient((asked) => clients.makeCertificate(s, asked)),
    showCertificate: ({ params }) => clients.showCertificate(s, params.provider, params.client, params.secret),
    compareThumbprint: (asked) => clients.checkThumbprint(s, asked),
    confirmOrigins: thenClient((asked) => clients.confirmOrigins(s, operators, asked)),
    sortNotes: (asked) => clients.sortNotes(s, asked),
    checkRedirectUri: (asked) => clients.checkRedirectUri(s, asked),
    recordRequest: thenClient((asked) => clients.recordRequest(s, asked)),
    checkApproval: thenClient((asked) => clients.checkApproval(s, asked)),
    showAnswers: () => clients.showAnswers(s),
    changeAnswers: (asked) => clients.changeAnswers(s, asked),

    listConnections: (asked) => connections.listConnections(s, asked),
    async addConnection(asked) {
      await connections.addConnection(s, asked);
      return connections.showConnection(s, asked.body.name, limitsOf(asked.actor.operator));
    },
    showConnection: ({ params, actor }) => connections.showConnection(s, params.connection, limitsOf(actor.operator)),
    changeConnections: (asked) => connections.changeConnections(s, asked),
    changeConnection: thenConnection((asked) => connections.changeConnection(s, asked)),
    removeConnection: (asked) => connections.removeConnection(s, asked),
    openConnection: (asked) => consents.open(asked),
    renewConnection: thenConnection((asked) => connections.renewConnection(s, asked)),
    pauseConnection: thenConnection((asked) => connections.pauseConnection(s, asked)),
    resumeConnection: thenConnection((asked) => connections.resumeConnection(s, asked)),
    importToken: (asked) => importToken(s, consents, asked),
    setKey: thenConnection((asked) => connections.setKey(s, asked)),
    decideStandby: (asked) => connections.decideStandby(s, asked),
    checkAdminConsent: (asked) => connections.checkAdminConsent(s, asked),
    retryRevocation: (asked) => connections.retryRevocation(s, asked),
    revokeConnection: (asked) => connections.revokeConnection(s, asked),
    probeConnection: (asked) => connections.probeConnection(s, asked),
    listAttempts: ({ params }) => connections.listAttempts(s, params.connection),
    giveCode: ({ params, body }) => consents.giveCode(params.consent, body.code),
    answerConsent: ({ params, body, actor }) => consents.answer(params.consent, body.pasted, actor.operator.name),
    explainPage: ({ params, body, actor }) => consents.explain(params.consent, body.page, actor.operator.name),
    showConsent: ({ params, actor }) => consents.outcome(params.consent, actor.operator?.name ?? null),

    recognizePaging: (asked) => jobs.recognizePaging(s, asked),
    collect: (asked) => jobs.collectNow(s, asked),
    listUpcoming: ({ query, actor }) => forecast.listUpcoming(s, query, limitsOf(actor.operator)),
    listCalendars: () => forecast.listCalendars(s),
    addCalendar: (asked) => forecast.addCalendar(s, asked),
    removeCalendar: (asked) => forecast.removeCalendar(s, asked),

    listRehearsals: () => rehearsals.listRehearsals(s),
    startRehearsal: (asked) => rehearsals.startRehearsal(s, asked),
    showRehearsal: (asked) => rehearsals.showRehearsal(s, asked),
    cancelRehearsal: (asked) => rehearsals.cancelRehearsal(s, asked),

    listNotices: (asked) => notices.listNotices(s, asked),
    showNotice: (asked) => notices.showNotice(s, asked),
    acknowledgeNotice: (asked) => notices.acknowledgeNotice(s, asked),
    assignNotice: (asked) => notices.assignNotice(s, asked),
    snoozeNotice: (asked) => notices.snoozeNotice(s, asked),
    listChannels: () => notices.listChannels(s),
    addChannel: (asked) => notices.addChannel(s, asked),
    showChannel: ({ params }) => notices.showChannel(s, params.channel),
    showChannelValues: (asked) => notices.showChannelValues(s, asked),
    changeChannel: (asked) => notices.changeChannel(s, asked),
    removeChannel: (asked) => notices.removeChannel(s, asked),
    testChannel: (asked) => notices.testChannel(s, asked),
    replayChannel: (asked) => notices.replayChannel(s, asked),

    listPeople: (asked) => people.listPeople(s, asked),
    disconnectPerson: (asked) => people.disconnectPerson(s, asked),
    invitePerson: (asked) => people.inviteByOperator(s, asked),
    listInvitations: (asked) => people.listInvitations(s, asked),
    revokeInvitation: (asked) => people.revokeInvitation(s, asked),
    listCampaigns: (asked) => people.listCampaigns(s, asked),
    addCampaign: (asked) => people.addCampaign(s, asked),
    endCampaign: (asked) => people.endCampaign(s, asked),
    showEventReceiver: ({ params }) => people.showReceiver(s, params.caller),
    showReceiverValues: (asked) => people.showReceiverValues(s, asked),
    setEventReceiver: (asked) => people.setReceiver(s, asked),
    removeEventReceiver: (asked) => people.removeReceiver(s, asked),
    replayEvents: (asked) => people.replayEvents(s, asked),
    inviteOwnPerson: (asked) => people.inviteByCaller(s, asked),
    listOwnPeople: (asked) => people.listOwnPeople(s, asked),
    disconnectOwnPerson: (asked) => people.disconnectOwnPerson(s, asked),
    redeemCode: (asked) => people.redeem(s, asked),
    listOwnEvents: (asked) => people.ownEvents(s, asked),

    listJobs: (asked) => jobs.listJobs(s, asked),
    planJob: (asked) => jobs.planJob(s, asked),
    async addJob(asked) {
      await jobs.addJob(s, asked);
      return jobs.showJob(s, asked.body.name);
    },
    showJob: ({ params }) => jobs.showJob(s, params.job),
    showJobValues: (asked) => jobs.showJobValues(s, asked),
    async changeJob(asked) {
      await jobs.changeJob(s, asked);
      return jobs.showJob(s, asked.params.job);
    },
    removeJob: (asked) => jobs.removeJob(s, asked),
    runJob: (asked) => jobs.runJob(s, asked),
    listRuns: (asked) => jobs.listRuns(s, asked),
    showRun: ({ params }) => jobs.showRun(s, params.run),
    cancelRun: (asked) => jobs.cancelRun(s, asked),
    resumeRun: (asked) => jobs.resumeRun(s, asked),
    previewRun: (asked) => jobs.previewRun(s, asked),
    listOwnJobs: ({ actor }) => jobs.listOwnJobs(s, actor.caller),

    listCallers: (asked) => callers.listCallers(s, asked),
    addCaller: (asked) => callers.addCaller(s, asked),
    showCaller: ({ params, actor }) => callers.showCaller(s, params.caller, limitsOf(actor.operator)),
    changeCaller: thenCaller((asked) => callers.changeCaller(s, asked)),
    removeCaller: (asked) => callers.removeCaller(s, asked),
    addKey: (asked) => callers.addKey(s, asked),
    rotateKey: (asked) => callers.rotateKey(s, asked),
    addIdentity: thenCaller((asked) => callers.addIdentity(s, asked)),
    removeIdentity: thenCaller((asked) => callers.removeIdentity(s, asked)),
    retireKey: thenCaller((asked) => callers.retireKey(s, asked)),
    permitCaller: thenCaller((asked) => callers.permitCaller(s, asked)),
    withdrawPermission: thenCaller((asked) => callers.withdrawPermission(s, asked)),
    endSignIn: thenCaller((asked) => callers.endToolSignIn(s, asked)),
    listSetupInstructions: ({ params, query }) => callers.listSetupInstructions(s, params.caller, query.connection),
    listUsage: ({ query }) => listUsage(s, query),

    listOwnConnections: async ({ actor }) => callers.listOwnConnections(s, actor.caller),
    listOwnCalls: async ({ params, actor }) => callers.listOwnCalls(s, actor.caller, params.connection),

    showSignInRequest: ({ params, actor }) => signInRequests.show(params.request, limitsOf(actor.operator)),
    answerSignInRequest: ({ params, body, actor }) => signInRequests.answer(params.request, body.connection, actor.operator.name),

    offeredCalls: ({ params }) => connections.offeredCalls(s, params.connection),
    callConnection: (asked) => connections.callConnection(s, asked),
    saveCall: (asked) => connections.saveCall(s, asked),
    showCallValues: (asked) => connections.showCallValues(s, asked),
    removeCall: (asked) => connections.removeCall(s, asked),
    readCalls: ({ params, body }) => connections.readCalls(s, params.connection, body.text),
    writeCurl: ({ params, body }) => connections.writeCurl(s, params.connection, body),
    showQuota: ({ params, actor }) => connections.showQuota(s, params.connection, limitsOf(actor.operator)),
  };
}
