/** What a rehearsal plays: what goes wrong, when, and at which instants one looks. Instants are epoch ms. */
export const SCENARIOS = ['ninety_days', 'provider_down', 'secret_expires', 'lost_answers', 'quota_used_up', 'approval_withdrawn', 'scopes_unticked'] as const;
export type Scenario = (typeof SCENARIOS)[number];

interface ScenarioWords {
  title: string;
  /** What happens, in one sentence. */
  plays: string;
}

export const SCENARIO_WORDS: Record<Scenario, ScenarioWords> = {
  ninety_days: { title: 'Ninety days', plays: 'Nothing unusual for 90 days. Shows what expires, when, and whether it was forecast.' },
  provider_down: { title: 'Provider down for an hour', plays: 'One provider answers every request with 503 for an hour.' },
  secret_expires: { title: 'Client secret expires', plays: 'A client secret expires. Six hours later someone enters a new one.' },
  lost_answers: { title: 'Lost answers', plays: 'For an hour the token endpoint of one provider does its work, and each answer is lost on the way.' },
  quota_used_up: { title: 'Quota used up', plays: 'The API of one provider answers 429 for six hours.' },
  approval_withdrawn: { title: 'Approval withdrawn', plays: 'One provider withdraws the approval of a client for six hours.' },
  scopes_unticked: { title: 'Scopes unticked', plays: 'People reconnect and untick a scope on the consent page.' },
};

const MINUTE_MS = 60_000;
const HOUR_MS = 60 * MINUTE_MS;
const DAY_MS = 24 * HOUR_MS;
/** A rehearsal ends: at most so many looks. */
const MAX_LOOKS = 1_500;
/** Where no secret has an expiration date, the rehearsed one expires then. */
export const ASSUMED_SECRET_MS = 45 * DAY_MS;

export interface Timeline {
  until: number;
  /** When it begins to go wrong, and when that is over; null: it does not. */
  wrong: { from: number; to: number } | null;
  /** Every instant at which one looks, in order; the first is the start. */
  looks: number[];
}

const every = (from: number, to: number, stepMs: number): number[] =>
  Array.from({ length: Math.max(0, Math.floor((to - from) / stepMs)) + 1 }, (_none, at) => from + at * stepMs);

/**
 * When a scenario looks: closely around what goes wrong, rarely where nothing happens.
 * @param secretEndsAt when the rehearsed secret expires
 * @param idleMs the shortest idle lifetime of a refresh token: connections must be renewed within it, so one looks more often
 */
export function timelineOf(scenario: Scenario, startAt: number, { secretEndsAt, idleMs }: { secretEndsAt: number; idleMs: number | null }): Timeline {
  if (scenario === 'ninety_days') {
    const until = startAt + 90 * DAY_MS;
    const stepMs = Math.max((until - startAt) / MAX_LOOKS, Math.min(DAY_MS, idleMs === null ? DAY_MS : idleMs / 3));
    return { until, wrong: null, looks: every(startAt, until, stepMs) };
  }
  if (scenario === 'secret_expires') {
    const wrong = { from: secretEndsAt, to: secretEndsAt + 6 * HOUR_MS };
    const until = wrong.to + 6 * HOUR_MS;
    const before = every(startAt, secretEndsAt - HOUR_MS, DAY_MS);
    return { until, wrong, looks: sorted([...before, ...every(secretEndsAt - HOUR_MS, until, 30 * MINUTE_MS), wrong.to]) };
  }
  const from = startAt + 30 * MINUTE_MS;
  const isShort = scenario === 'provider_down' || scenario === 'lost_answers';
  const to = from + (isShort ? HOUR_MS : 6 * HOUR_MS);
  const until = to + 6 * HOUR_MS;
  const closely = isShort ? 5 * MINUTE_MS : 15 * MINUTE_MS;
  return { until, wrong: { from, to }, looks: sorted([...every(startAt, to + HOUR_MS, closely), to, ...every(to + HOUR_MS, until, 30 * MINUTE_MS)]) };
}

const sorted = (instants: number[]): number[] => [...new Set(instants)].sort((a, b) => a - b).slice(0, MAX_LOOKS);
