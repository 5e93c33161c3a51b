import type { SecretState } from '../core/clients/choose-secret.ts';
import { type Half, type Side, VERDICTS } from '../core/diagnosis/causes.ts';
import type { Certainty, UpcomingKind } from '../core/forecast/forecast.ts';
import type { ConnectionState, ProofState } from '../core/health.ts';
import type { NoticeEvent, NoticeKind, NoticeSeverity } from '../core/notices/notice.ts';
import type { GrantKind } from '../core/oauth/grant-kinds.ts';
import type { PersonEventKind } from '../core/people/event.ts';
import type { ReachWidth } from '../core/privilege/report.ts';
import type { Power } from '../core/provider/definition.ts';
import type { Approval } from '../core/provider/kinds.ts';
import type { RenewalPolicy } from '../core/renewal/plan.ts';
import type { CLIENT_STATES } from './clients.ts';
import type { Completeness, Run } from './jobs.ts';
import type { FactorKind, OperatorState, SessionKind } from './operators.ts';
import type { Invitation } from './people.ts';
import type { Role } from './roles.ts';

export { counted } from '../core/counted.ts';

/**
 * The words of the closed lists that people meet, once for console, CLI and docs: what each value is called, how it is colored and drawn,
 * and what it means. A new value without a word does not compile.
 */
export type Tone = 'good' | 'warning' | 'bad' | 'quiet';
type Icon = 'check' | 'alert' | 'dashed' | 'pause' | 'cross' | 'moon' | 'person' | 'question';
export interface Word {
  label: string;
  tone: Tone;
  icon: Icon;
  /** One character for a terminal. */
  mark: string;
  says: string;
}

type ClientState = (typeof CLIENT_STATES)[number];
export type AnyState = ConnectionState | ClientState | SecretState | Approval;

const word = (label: string, tone: Tone, drawn: [icon: Icon, mark: string], says: string): Word => ({ label, tone, icon: drawn[0], mark: drawn[1], says });

/** The shown states of connections, clients and secrets, and of a client's approval. */
export const STATES: Record<AnyState, Word> = {
  working: word('working', 'good', ['check', '\u2713'], 'Renewed in time, and its calls work.'),
  idle: word('idle', 'good', ['moon', '\u00b7'], 'Renewed on request; no caller requested a token recently.'),
  degraded: word('degraded', 'warning', ['alert', '!'], 'Something failed; it is retried automatically.'),
  action_needed: word('action needed', 'bad', ['person', '\u2717'], 'It does not recover automatically. Someone must act.'),
  not_yet_consented: word('not yet consented', 'quiet', ['dashed', '\u00b7'], 'Nobody has consented yet.'),
  paused: word('paused', 'quiet', ['pause', '\u2016'], 'An operator paused it: no tokens are issued.'),
  revoked: word('revoked', 'quiet', ['cross', '\u2014'], 'It was revoked here.'),
  draft: word('draft', 'quiet', ['dashed', '\u00b7'], 'Values are missing, or nobody has consented yet.'),
  ready: word('ready, not verified', 'quiet', ['dashed', '\u00b7'], 'Complete; no request was made with it yet.'),
  stopped: word('stopped', 'bad', ['cross', '\u2717'], 'The provider rejects the client, or its new addresses are not confirmed.'),
  rejected: word('rejected', 'bad', ['cross', '\u2717'], 'The provider rejected it.'),
  info_requested: word('info requested', 'warning', ['person', '!'], 'The provider wants more information before it approves the client.'),
  requested: word('approval requested', 'warning', ['dashed', '\u00b7'], 'Approval was requested and has not come.'),
  not_requested: word('approval not requested', 'warning', ['dashed', '\u00b7'], 'The provider approves clients, and nobody has requested it.'),
  approved: word('approved', 'good', ['check', '\u2713'], 'The provider approved the client.'),
  not_needed: word('no approval needed', 'quiet', ['check', '\u00b7'], 'The provider approves no clients.'),
  retired: word('retired', 'quiet', ['cross', '\u2014'], 'No longer used.'),
  unverified: word('to be verified', 'warning', ['dashed', '\u00b7'], 'New; it is verified before it replaces the current one.'),
  active: word('current', 'good', ['check', '\u2713'], 'Requests are made with it.'),
  former: word('standby', 'quiet', ['pause', '\u2016'], 'Kept in case its successor is rejected.'),
};

/** The states of a run of a job, and the verdict on what it collected. */
export const RUN_WORDS: Record<Run['state'], Word> = {
  running: word('running', 'good', ['dashed', '\u2026'], 'It collects pages now.'),
  waiting: word('waiting', 'warning', ['pause', '\u2016'], 'It cannot go on now, and continues automatically.'),
  done: word('done', 'good', ['check', '\u2713'], 'All pages were read.'),
  failed: word('failed', 'bad', ['cross', '\u2717'], 'It stopped, and shows why. What it collected is kept until it is resumed.'),
  cancelled: word('cancelled', 'quiet', ['cross', '\u2014'], 'An operator cancelled it.'),
  skipped: word('skipped', 'quiet', ['pause', '\u2014'], 'It was due while the run before it was not finished.'),
};
export const COMPLETENESS_WORDS: Record<Completeness['verdict'], Word> = {
  complete: word('complete', 'good', ['check', '\u2713'], 'Evidence shows that every record was collected.'),
  incomplete: word('incomplete', 'bad', ['alert', '\u2717'], 'Evidence shows that records are missing. The earlier result stays in use.'),
  cannot_tell: word('cannot tell', 'warning', ['question', '?'], 'Nothing shows that records are missing, and nothing shows that all came.'),
};

/** The states of an invitation, and the events that applications get. */
export const INVITATION_WORDS: Record<Invitation['state'], Word> = {
  sent: word('sent', 'quiet', ['dashed', '\u00b7'], 'Nobody has opened the link yet.'),
  opened: word('opened', 'warning', ['person', '\u00b7'], 'The link was opened; nobody has consented yet.'),
  used: word('used', 'good', ['check', '\u2713'], 'Someone consented.'),
  expired: word('expired', 'quiet', ['pause', '\u2014'], 'The link expired before it was used.'),
  revoked: word('revoked', 'quiet', ['cross', '\u2014'], 'An operator revoked the link.'),
};
export const PERSON_EVENT_LABELS: Record<PersonEventKind, string> = {
  consented: 'consented',
  scopes_changed: 'scopes changed',
  action_needed: 'action needed',
  disconnected: 'disconnected here',
  withdrawn: 'withdrawn at the provider',
  expires_soon: 'expires soon',
  asked: 'asked to consent again',
};

/** What will stop, and how sure its date is. */
export const UPCOMING_WORDS: Record<UpcomingKind, string> = {
  client_secret: 'Client secrets',
  certificate: 'Certificates',
  grant: 'Grants',
  test_phase: 'Test phases',
  standby: 'Standby tokens',
  caller_key: 'Caller keys',
  invitations: 'Invitations',
  approval: 'Approvals',
  quota: 'Quotas',
  server_certificate: 'TLS certificate',
  disk: 'Disk space',
};
export const NOTICE_SEVERITIES: Record<NoticeSeverity, Word> = {
  action: word('action needed', 'bad', ['person', '\u2717'], 'Something stopped, or will before it can be replaced. Someone must act.'),
  warning: word('warning', 'warning', ['alert', '!'], 'Something will stop, or does not work as it should.'),
  info: word('information', 'quiet', ['check', '\u00b7'], 'Good to know. Nothing stops.'),
};
export const NOTICE_KIND_WORDS: Record<NoticeKind, string> = {
  connections: 'Connections',
  upcoming: 'Expiration',
  approval: 'Approval',
  definition: 'Provider definition',
  job: 'Job',
  delivery: 'Delivery',
  installation: 'Installation',
};
export const NOTICE_EVENT_WORDS: Record<NoticeEvent, string> = { opened: 'opened', worse: 'became worse', reminder: 'reminder', closed: 'closed' };
export const CERTAINTY_WORDS: Record<Certainty, string> = { known: 'known', observed: 'observed', assumed: 'by the definition' };

/** Lines that are judged: what was compared before a consent, and what a connection depends on. */
export const LINE_VERDICTS: Record<'good' | 'missing' | 'doubt' | 'bad', Word> = {
  good: word('good', 'good', ['check', '\u2713'], 'It is as it must be.'),
  missing: word('missing', 'bad', ['alert', '\u2717'], 'It must be entered first.'),
  doubt: word('not known', 'warning', ['question', '?'], 'It was not verified.'),
  bad: word('mind this', 'bad', ['alert', '\u2717'], 'It will stop working.'),
};

/** What was seen in an answer: the first thing to know of a failure. */
export const VERDICT_LABELS = VERDICTS;

/** Whose half of the rights is missing. */
export const HALF_LABELS: Record<Half, string> = {
  client: 'the client\u2019s half',
  person: 'the person\u2019s half',
  service_user: 'the service user\u2019s role',
  organization: 'the organization\u2019s half',
};

/** Who can fix it. */
export const SIDE_LABELS: Record<Side, string> = {
  person: 'the person who consents',
  client: 'our registration at the provider',
  organization: 'whoever gives admin consent for the organization',
  provider: 'the provider',
  caller: 'whoever makes the call',
  ours: 'this service',
};

/** When a connection is renewed. */
export const POLICY_LABELS: Record<RenewalPolicy, string> = {
  always: 'always in time',
  when_used: 'in time while callers use it (30 days)',
  on_demand: 'when a caller asks',
};

/** What a grant came from. */
export const GRANT_KIND_LABELS: Record<GrantKind, string> = {
  authorization_code: 'tokens of a consent',
  device_code: 'tokens of a consent by device code',
  imported: 'imported tokens',
  client_credentials: 'the client\u2019s own token',
  jwt_bearer: 'the service account\u2019s token',
  static_key: 'the static key',
};

/** Whether the first call with a grant worked. */
export const PROOF_LABELS: Record<ProofState, string> = {
  verified: 'the first call worked',
  failed: 'the first call failed',
  not_verified: 'not verified yet',
  not_defined: 'no test call is defined',
};

export const POWER_LABELS: Record<Power, string> = { identity: 'sees who signed in', read: 'reads', write: 'writes', admin: 'administers' };
export const WIDTH_LABELS: Record<ReachWidth, string> = {
  one_account: 'one account',
  each_person: 'each person’s own',
  organization: 'the whole organization',
};

/** Whether an operator can sign in. */
export const OPERATOR_STATE_WORDS: Record<OperatorState, string> = { invited: 'invited, no password yet', active: 'active', disabled: 'disabled' };
export const SESSION_KIND_WORDS: Record<SessionKind, string> = { browser: 'browser', program: 'rk', token: 'personal token' };
export const FACTOR_WORDS: Record<FactorKind, string> = { authenticator: 'authenticator app', passkey: 'passkey' };
export const ROLE_WORDS: Record<Role, string> = {
  viewer: 'reads everything but secrets and exports',
  operator: 'changes connections, clients, callers and jobs',
  administrator: 'also changes operators, keys and backups, and confirms new addresses for secrets',
};
