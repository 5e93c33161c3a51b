import { type ApiSessionStore, apiSessionStore } from './api-sessions.ts';
import { type BackupStore, backupStore } from './backups.ts';
import { type BundleStore, bundleStore } from './bundles.ts';
import { type CallerIdentityStore, callerIdentityStore } from './caller-identities.ts';
import { type CallerStore, callerStore } from './callers.ts';
import { type CampaignStore, campaignStore } from './campaigns.ts';
import { type ChangeStore, changeStore } from './changes.ts';
import { type ChannelStore, channelStore } from './channels.ts';
import { type ClientStore, clientStore } from './clients.ts';
import { type ConnectionList, connectionList } from './connection-list.ts';
import { type ConnectionStateStore, connectionStateStore } from './connection-states.ts';
import { type ConnectionStore, connectionStore } from './connections.ts';
import { type ConsentStore, consentStore } from './consents.ts';
import { type DataKeyStore, dataKeyStore } from './data-keys.ts';
import type { Database } from './database.ts';
import { type DefinitionUses, definitionUses } from './definition-uses.ts';
import { type ForecastStore, forecastStore } from './forecast.ts';
import { type GrantStore, grantStore } from './grants.ts';
import { type HistoryStore, historyStore } from './history.ts';
import { type ChainStore, chainStore } from './history-chains.ts';
import { type IdentityProviderStore, identityProviderStore } from './identity-providers.ts';
import { type InstallationStore, installationStore } from './installation.ts';
import { type InvitationStore, invitationStore } from './invitations.ts';
import { type JobStore, jobStore } from './jobs.ts';
import { type LimitStore, limitStore } from './limits.ts';
import { type MailStore, mailStore } from './mails.ts';
import { type MarkStore, markStore, type SaveCount, saveCount } from './marks.ts';
import { type NoticeFacts, noticeFacts } from './notice-facts.ts';
import { type NoticeStore, noticeStore } from './notices.ts';
import { type OperatorStore, operatorStore } from './operators.ts';
import { type PermissionStore, permissionStore } from './permissions.ts';
import { type PersonEventStore, personEventStore } from './person-events.ts';
import { type ProviderStore, providerStore } from './providers.ts';
import { type QuotaStore, quotaStore } from './quotas.ts';
import { type RehearsalStore, rehearsalStore } from './rehearsals.ts';
import { type RelayedStore, relayedStore } from './relayed.ts';
import { type RenewalStore, renewalStore } from './renewals.ts';
import { type ReplicaStore, replicaStore } from './replicas.ts';
import { type RevocationStore, revocationStore } from './revocations.ts';
import { type RunStore, runStore } from './runs.ts';
import { type SavedCallStore, savedCallStore } from './saved-calls.ts';
import { type SealedValueStore, sealedValueStore } from './sealed-values.ts';
import { type SecondFactorStore, secondFactorStore } from './second-factors.ts';
import { type SecretStore, secretStore } from './secrets.ts';
import { type SessionStore, sessionStore } from './sessions.ts';
import { type SightingStore, sightingStore } from './sightings.ts';
import { type SnapshotStore, snapshotStore } from './snapshot.ts';
import { type SpareStore, spareStore } from './spares.ts';
import { type StampStore, stampStore } from './stamps.ts';
import { type StatisticsStore, statisticsStore } from './statistics.ts';
import { type ToolSignInStore, toolSignInStore } from './tool-sign-ins.ts';
import { type UsageStore, usageStore } from './usage.ts';
import { type WireLogStore, wireLogStore } from './wire-log.ts';

/** The repositories, one for each aggregate. Nothing outside this folder writes SQL; each method is one statement or one transaction. */
export interface Store {
  /** Does several methods of any repositories in one transaction: all of it, or nothing. What it does besides the database must be harmless twice. */
  atomically<T>(work: () => Promise<T>): Promise<T>;
  apiSessions: ApiSessionStore;
  backups: BackupStore;
  bundles: BundleStore;
  callerIdentities: CallerIdentityStore;
  callers: CallerStore;
  campaigns: CampaignStore;
  chains: ChainStore;
  changes: ChangeStore;
  channels: ChannelStore;
  clients: ClientStore;
  connections: ConnectionStore;
  connectionList: ConnectionList;
  connectionStates: ConnectionStateStore;
  consents: ConsentStore;
  dataKeys: DataKeyStore;
  definitionUses: DefinitionUses;
  forecast: ForecastStore;
  grants: GrantStore;
  history: HistoryStore;
  identityProvider: IdentityProviderStore;
  installation: InstallationStore;
  invitations: InvitationStore;
  jobs: JobStore;
  limits: LimitStore;
  mails: MailStore;
  marks: MarkStore;
  noticeFacts: NoticeFacts;
  notices: NoticeStore;
  operators: OperatorStore;
  permissions: PermissionStore;
  personEvents: PersonEventStore;
  providers: ProviderStore;
  quotas: QuotaStore;
  rehearsals: RehearsalStore;
  relayed: RelayedStore;
  renewals: RenewalStore;
  replicas: ReplicaStore;
  revocations: RevocationStore;
  runs: RunStore;
  savedCalls: SavedCallStore;
  secondFactors: SecondFactorStore;
  sealedValues: SealedValueStore;
  secrets: SecretStore;
  sessions: SessionStore;
  sightings: SightingStore;
  snapshot: SnapshotStore;
  spares: SpareStore;
  stamps: StampStore;
  statistics: StatisticsStore;
  toolSignIns: ToolSignInStore;
  usage: UsageStore;
  wireLog: WireLogStore;
}

export const openStore = (database: Database, count: SaveCount = saveCount()): Store => ({
  atomically: database.atomically,
  apiSessions: apiSessionStore(database),
  backups: backupStore(database),
  bundles: bundleStore(database),
  callerIdentities: callerIdentityStore(database),
  callers: callerStore(database),
  campaigns: campaignStore(database),
  chains: chainStore(database),
  changes: changeStore(database),
  channels: channelStore(database),
  clients: clientStore(database),
  connections: connectionStore(database),
  connectionList: connectionList(database),
  connectionStates: connectionStateStore(database),
  consents: consentStore(database),
  dataKeys: dataKeyStore(database),
  definitionUses: definitionUses(database),
  forecast: forecastStore(database),
  grants: grantStore(database),
  history: historyStore(database),
  identityProvider: identityProviderStore(database),
  installation: installationStore(database),
  invitations: invitationStore(database),
  jobs: jobStore(database),
  limits: limitStore(database),
  mails: mailStore(database),
  marks: markStore(database, count),
  noticeFacts: noticeFacts(database),
  notices: noticeStore(database),
  operators: operatorStore(database),
  permissions: permissionStore(database),
  personEvents: personEventStore(database),
  providers: providerStore(database),
  quotas: quotaStore(database),
  rehearsals: rehearsalStore(database),
  relayed: relayedStore(database),
  renewals: renewalStore(database, count),
  replicas: replicaStore(database),
  revocations: revocationStore(database),
  runs: runStore(database),
  savedCalls: savedCallStore(database),
  secondFactors: secondFactorStore(database),
  sealedValues: sealedValueStore(database),
  secrets: secretStore(database),
  sessions: sessionStore(database),
  sightings: sightingStore(database),
  snapshot: snapshotStore(database),
  spares: spareStore(database),
  stamps: stampStore(database),
  statistics: statisticsStore(database),
  toolSignIns: toolSignInStore(database),
  usage: usageStore(database),
  wireLog: wireLogStore(database),
});
