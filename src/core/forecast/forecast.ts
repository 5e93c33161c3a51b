import { counted } from '../counted.ts';
import { type DiskLevels, diskFullAt, quotaEndsAt, type ScheduledQuota } from './running-out.ts';

/** What will stop, or get worse, if nobody acts. Instants are epoch ms. Pure: a function of what is stored and of the time. */
export const UPCOMING_KINDS = [
  ...(['client_secret', 'certificate', 'grant', 'test_phase', 'standby', 'caller_key', 'invitations', 'approval'] as const),
  ...(['quota', 'server_certificate', 'disk'] as const),
] as const;
export type UpcomingKind = (typeof UPCOMING_KINDS)[number];

/** How sure the date is: someone entered it or the provider stated it; it was seen; it follows from what the definition states. */
export type Certainty = 'known' | 'observed' | 'assumed';
type Actor = 'operator' | 'person' | 'provider';

/** Whom it hits: how many connections, and the first of them by name; the callers and jobs that use them. */
export interface Breaks {
  connections: number;
  examples: string[];
  callers: string[];
  jobs: string[];
}

export interface Upcoming {
  /** Stays the same from day to day, and for whoever reads it: of a calendar entry, of a notice. */
  key: string;
  kind: UpcomingKind;
  what: string;
  /** When it stops; before `now` where it is late already. */
  at: number;
  /** The latest moment to begin, so that all is done in time. */
  actBy: number;
  /** From when it is worth a notice. */
  noticeAt: number;
  certainty: Certainty;
  who: Actor;
  breaks: Breaks;
  remedy: string;
  /** The page of the console, and the command of `rk`, where it is fixed. */
  page: string;
  command: string;
  labels: string[];
}

export interface ClientFacts {
  id: string;
  provider: string;
  name: string;
  /** Kept secrets, keys and certificates; `endsAt` null: never. */
  secrets: { kind: string; label: string; endsAt: number | null }[];
  approval: { state: string; expectedAt: number | null };
  /** Whoever approves takes days: a change has to begin earlier. */
  needsApproval: boolean;
  breaks: Breaks;
  /** Of its connections. */
  labels: string[];
}
export interface GrantFacts {
  id: string;
  connection: string;
  /** The shared connection, where it is a person's. */
  shared: string | null;
  account: string | null;
  consentedAt: number;
  /** By the provider's rules, however often it is renewed; null: not known. */
  lifeEndsAt: number | null;
  /** Refresh tokens of a client for listed accounts end then; null: they do not. */
  phaseEndsAt: number | null;
  isStandby: boolean;
  labels: string[];
  breaks: Breaks;
}
export interface Facts {
  clients: readonly ClientFacts[];
  grants: readonly GrantFacts[];
  callerKeys: readonly { id: string; caller: string; label: string; endsAt: number; isLast: boolean; breaks: Breaks; labels: string[] }[];
  invitations: readonly { shared: string; count: number; firstEndsAt: number }[];
  quotas: readonly ScheduledQuota[];
  /** Of the public address, where it is https; null: not known. */
  serverCertificate: { host: string; endsAt: number } | null;
  disks: readonly DiskLevels[];
}

const DAY_MS = 86_400_000;
/** How long it takes to act, in days: a new secret is verified beside the old one; approval waits for people. */
const LEAD_DAYS: Record<UpcomingKind, number> = {
  client_secret: 7,
  certificate: 7,
  grant: 3,
  test_phase: 3,
  standby: 3,
  caller_key: 7,
  invitations: 0,
  approval: 0,
  quota: 0,
  server_certificate: 7,
  disk: 14,
};
const APPROVAL_LEAD_DAYS = 14;
const NOTICE_DAYS = 30;
const NONE: Breaks = { connections: 0, examples: [], callers: [], jobs: [] };

/**
 * Everything that will stop until `until`, the first one first. What lies before `now` is late, and is still shown: it has stopped, or it
 * waits for someone.
 */
export function forecast(facts: Facts, now: number, until: number): Upcoming[] {
  const all = [
    ...facts.clients.flatMap((client) => ofClient(client, now)),
    ...grants(facts.grants),
    ...facts.callerKeys.flatMap(ofCallerKey),
    ...facts.invitations.map(ofInvitations),
    ...facts.quotas.flatMap(ofQuota),
    ...(facts.serverCertificate ? [ofServerCertificate(facts.serverCertificate)] : []),
    ...facts.disks.flatMap(ofDisk),
  ];
  return all.filter((one) => one.at <= until).sort((a, b) => a.at - b.at || (a.key < b.key ? -1 : 1));
}

type Core = Omit<Upcoming, 'actBy' | 'noticeAt'> & { leadDays?: number; lifeMs?: number };
/** What lives for three days only need not be acted on from its first minute: a quarter of a short life is lead enough. */
const withLead = ({ leadDays, lifeMs = Number.POSITIVE_INFINITY, ...one }: Core): Upcoming => ({
  ...one,
  actBy: one.at - Math.min((leadDays ?? LEAD_DAYS[one.kind]) * DAY_MS, lifeMs / 4),
  noticeAt: one.at - Math.min(NOTICE_DAYS * DAY_MS, lifeMs / 2),
});

function ofClient(client: ClientFacts, now: number): Upcoming[] {
  const { id, provider, name, breaks, labels } = client;
  const page = `/providers/${provider}/clients/${name}/credentials`;
  const found: Upcoming[] = [];
  // Another secret that is there already takes over: only the last of them ends the client.
  const dated = client.secrets.filter((one): one is typeof one & { endsAt: number } => one.endsAt !== null);
  const last = dated.length > 0 && dated.length === client.secrets.length ? dated.reduce((a, b) => (b.endsAt > a.endsAt ? b : a)) : null;
  if (last) {
    const isKey = last.kind === 'certificate' || last.kind === 'key';
    found.push(
      withLead({
        key: `secret-${id}`,
        kind: isKey ? 'certificate' : 'client_secret',
        what: `${isKey ? 'Certificate' : last.kind === 'password' ? 'Password' : 'Client secret'} of ${provider}/${name}`,
        at: last.endsAt,
        certainty: 'known',
        who: 'operator',
        breaks,
        remedy: `Make a new one at the provider and enter it beside the old one. It is verified before the old one is retired.`,
        page,
        command: `rk client ${isKey ? 'certificate make' : 'secret add'} ${provider}/${name}`,
        labels,
        ...(client.needsApproval && isKey ? { leadDays: APPROVAL_LEAD_DAYS } : {}),
      }),
    );
  }
  const { state, expectedAt } = client.approval;
  if ((state === 'requested' || state === 'info_requested') && (expectedAt !== null || state === 'info_requested'))
    found.push(
      withLead({
        key: `approval-${id}`,
        kind: 'approval',
        what: state === 'info_requested' ? `${provider} asks for more about ${name}` : `Approval of ${provider}/${name}`,
        at: state === 'info_requested' ? now : (expectedAt ?? now),
        certainty: 'assumed',
        who: state === 'info_requested' ? 'operator' : 'provider',
        breaks,
        remedy:
          state === 'info_requested' ? 'Answer the provider.' : 'Ask the provider how far it is. It is checked automatically where the provider reports it.',
        page: `/providers/${provider}/clients/${name}`,
        command: `rk client show ${provider}/${name}`,
        labels,
      }),
    );
  return found;
}

/** People of one shared connection are one entry: the first of them names the date. */
function grants(all: readonly GrantFacts[]): Upcoming[] {
  const own: Upcoming[] = [];
  const shared = new Map<string, { ends: Ending; facts: GrantFacts; count: number }>();
  for (const facts of all) {
    const ends = endOf(facts);
    if (!ends) continue;
    if (facts.shared === null) {
      own.push(grantEntry(facts, ends));
      continue;
    }
    const at = `${facts.shared} ${ends.kind}`;
    const known = shared.get(at);
    shared.set(at, { ends: !known || ends.at < known.ends.at ? ends : known.ends, facts, count: (known?.count ?? 0) + 1 });
  }
  return [...own, ...[...shared.values()].map(peopleEntry)];
}

interface Ending {
  kind: 'grant' | 'test_phase' | 'standby';
  at: number;
}
function endOf(facts: GrantFacts): Ending | null {
  const ends = [
    ...(facts.lifeEndsAt === null ? [] : [{ kind: 'grant' as const, at: facts.lifeEndsAt }]),
    ...(facts.phaseEndsAt === null ? [] : [{ kind: 'test_phase' as const, at: facts.phaseEndsAt }]),
  ].sort((a, b) => a.at - b.at);
  const [first] = ends;
  return first ? (facts.isStandby ? { kind: 'standby', at: first.at } : first) : null;
}

const GRANT_REMEDY: Record<Ending['kind'], string> = {
  grant: 'Reconnect before that date: whoever consented consents again.',
  test_phase: 'Publish the client at the provider, then reconnect; or reconnect before that date.',
  standby: 'Use it, discard it, or consent again before that date.',
};
const grantEntry = (facts: GrantFacts, { kind, at }: Ending): Upcoming =>
  withLead({
    key: `grant-${facts.id}`,
    kind,
    what: kind === 'standby' ? `Tokens on standby of ${facts.connection}` : `Grant of ${facts.connection}${facts.account ? ` (${facts.account})` : ''}`,
    at,
    lifeMs: at - facts.consentedAt,
    certainty: 'assumed',
    who: 'person',
    breaks: kind === 'standby' ? NONE : facts.breaks,
    remedy: GRANT_REMEDY[kind],
    page: `/connections/${facts.connection}`,
    command: `rk connection open ${facts.connection}`,
    labels: facts.labels,
  });
const peopleEntry = ({ ends, facts, count }: { ends: Ending; facts: GrantFacts; count: number }): Upcoming =>
  withLead({
    key: `people-${facts.shared}-${ends.kind}`,
    kind: ends.kind,
    what: `Grants of ${counted(count, 'person', 'people')} of ${facts.shared}, the first`,
    at: ends.at,
    lifeMs: ends.at - facts.consentedAt,
    certainty: 'assumed',
    who: 'person',
    breaks: { ...facts.breaks, connections: count },
    remedy: 'Each person gets the link to reconnect two weeks before. A campaign reminds them.',
    page: `/connections/${facts.shared}`,
    command: `rk person list ${facts.shared}`,
    labels: facts.labels,
  });

/** A key matters where it is the caller's last; a retired one beside another ends as planned. */
const ofCallerKey = (key: Facts['callerKeys'][number]): Upcoming[] =>
  key.isLast
    ? [
        withLead({
          key: `key-${key.id}`,
          kind: 'caller_key',
          what: `Last key of the caller ${key.caller}${key.label ? ` (${key.label})` : ''}`,
          at: key.endsAt,
          certainty: 'known',
          who: 'operator',
          breaks: key.breaks,
          remedy: 'Add a new key, switch the tool, and let the old one end.',
          page: `/callers/${key.caller}/keys`,
          command: `rk caller key add ${key.caller}`,
          labels: key.labels,
        }),
      ]
    : [];

const ofInvitations = ({ shared, count, firstEndsAt }: Facts['invitations'][number]): Upcoming =>
  withLead({
    key: `invitations-${shared}`,
    kind: 'invitations',
    what: `${counted(count, 'unused invitation')} to ${shared}, the first`,
    at: firstEndsAt,
    certainty: 'known',
    who: 'person',
    breaks: NONE,
    remedy: 'Remind whoever was invited, or invite them again.',
    page: `/connections/${shared}/invitations`,
    command: `rk invitation list ${shared}`,
    labels: [],
  });

function ofQuota(quota: ScheduledQuota): Upcoming[] {
  const ends = quotaEndsAt(quota);
  if (!ends) return [];
  return [
    withLead({
      key: `quota-${quota.scope}`.replace(/[^A-Za-z0-9-]/g, '-').slice(0, 120),
      kind: 'quota',
      what: `Quota of ${quota.connection} at ${quota.title}`,
      at: ends.at,
      certainty: 'observed',
      who: 'operator',
      breaks: { connections: 1, examples: [quota.connection], callers: [], jobs: ends.jobs },
      remedy: 'Run the jobs less often, let a run collect less, or ask the provider for a larger quota. Runs wait until it resets.',
      page: `/connections/${quota.connection}/used-by`,
      command: `rk connection quota ${quota.connection}`,
      labels: quota.labels,
    }),
  ];
}

const ofServerCertificate = ({ host, endsAt }: NonNullable<Facts['serverCertificate']>): Upcoming =>
  withLead({
    key: 'server-certificate',
    kind: 'server_certificate',
    what: `TLS certificate of ${host}`,
    at: endsAt,
    certainty: 'observed',
    who: 'operator',
    breaks: NONE,
    remedy: 'Renew it where TLS is terminated, such as the reverse proxy. When it expires, browsers, callers and redirects from providers fail.',
    page: '/',
    command: 'rk status',
    labels: [],
  });

function ofDisk(disk: DiskLevels): Upcoming[] {
  const at = diskFullAt(disk);
  if (at === null) return [];
  return [
    withLead({
      key: `disk-${disk.instance.slice(-8)}-${disk.folder.replace(/[^A-Za-z0-9]+/g, '-')}`.slice(0, 120),
      kind: 'disk',
      what: `Disk under ${disk.folder}`,
      at,
      certainty: 'observed',
      who: 'operator',
      breaks: NONE,
      remedy: 'Free space or enlarge the volume: results of jobs, the activity log and the database are on it. Or shorten the retention.',
      page: '/settings',
      command: 'rk replica list',
      labels: [],
    }),
  ];
}
