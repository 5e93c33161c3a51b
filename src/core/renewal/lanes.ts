/**
 * How many renewals may run at one token endpoint and for one client, and when an endpoint that fails is paused by the circuit breaker. Each process
 * keeps its own; nothing here is stored. Instants in epoch ms.
 */
export interface LaneLimits {
  originMost: number;
  clientMost: number;
  /** So many failures in a row, without one answer between them, open the breaker of an origin. */
  breakerAfter: number;
  breakerBaseMs: number;
  breakerMostMs: number;
}

export const DEFAULT_LANES: LaneLimits = { originMost: 32, clientMost: 16, breakerAfter: 5, breakerBaseMs: 1_000, breakerMostMs: 300_000 };

/** `full`: no slot is free; `open`: the origin's breaker is open, or its one try is under way; `held`: the provider told this client to wait. */
export type Entry = { kind: 'go' } | { kind: 'full' | 'open' | 'held'; untilAt: number };

interface LaneView {
  origin: string;
  running: number;
  /** Null: the breaker is closed. */
  openUntilAt: number | null;
}

export interface Lanes {
  /** Takes a slot. `urgent` (a token issuance waits): half as many again may run. */
  enter(lane: { clientId: string; origin: string }, now: number, urgent?: boolean): Entry;
  /** Gives the slot back. `answered`: the token endpoint spoke; `lost`: nothing, or nothing readable, came back; `unused`: nothing was sent. */
  leave(lane: { clientId: string; origin: string }, how: 'answered' | 'lost' | 'unused', now: number, spread: number): void;
  /** The provider asked this client to wait. */
  hold(clientId: string, untilAt: number): void;
  /** Clients whose due rows need not be claimed now. */
  closedClients(now: number): string[];
  view(now: number): LaneView[];
}

interface Origin {
  running: number;
  failures: number;
  openUntilAt: number;
  opened: number;
  trying: boolean;
  clients: Set<string>;
}

const FULL_FOR_MS = 200;

export function lanes(limits: LaneLimits = DEFAULT_LANES): Lanes {
  const origins = new Map<string, Origin>();
  const running = new Map<string, number>();
  const holds = new Map<string, number>();
  const at = (name: string): Origin => {
    const known = origins.get(name) ?? { running: 0, failures: 0, openUntilAt: 0, opened: 0, trying: false, clients: new Set<string>() };
    origins.set(name, known);
    return known;
  };
  const isOpen = (origin: Origin): boolean => origin.failures >= limits.breakerAfter;
  /** Half open: the time is over and nobody tries yet. */
  const shut = (origin: Origin, now: number): boolean => isOpen(origin) && (origin.trying || origin.openUntilAt > now);

  return {
    enter({ clientId, origin: name }, now, urgent = false) {
      const origin = at(name);
      origin.clients.add(clientId);
      const heldUntil = holds.get(clientId) ?? 0;
      if (heldUntil > now) return { kind: 'held', untilAt: heldUntil };
      if (shut(origin, now)) return { kind: 'open', untilAt: Math.max(origin.openUntilAt, now + FULL_FOR_MS) };
      const more = urgent ? 1.5 : 1;
      if (origin.running >= limits.originMost * more || (running.get(clientId) ?? 0) >= limits.clientMost * more)
        return { kind: 'full', untilAt: now + FULL_FOR_MS };
      origin.running += 1;
      running.set(clientId, (running.get(clientId) ?? 0) + 1);
      if (isOpen(origin)) origin.trying = true;
      return { kind: 'go' };
    },
    leave({ clientId, origin: name }, how, now, spread) {
      const origin = at(name);
      origin.running -= 1;
      const left = (running.get(clientId) ?? 1) - 1;
      if (left > 0) running.set(clientId, left);
      else running.delete(clientId);
      if (how === 'answered') {
        Object.assign(origin, { failures: 0, openUntilAt: 0, opened: 0, trying: false });
        return;
      }
      if (how === 'unused') {
        if (origin.running === 0) origin.trying = false;
        return;
      }
      const wasTrying = origin.trying;
      origin.failures += 1;
      // Requests that were under way when the breaker opened do not lengthen it; the one try does.
      if (!isOpen(origin) || (origin.openUntilAt > now && !wasTrying)) return;
      origin.trying = false;
      origin.opened += 1;
      const ceiling = Math.min(limits.breakerMostMs, limits.breakerBaseMs * 2 ** Math.min(origin.opened, 30));
      origin.openUntilAt = now + Math.ceil(ceiling * (0.25 + 0.75 * spread));
    },
    hold(clientId, untilAt) {
      holds.set(clientId, Math.max(holds.get(clientId) ?? 0, untilAt));
    },
    closedClients(now) {
      const closed = new Set<string>();
      for (const [clientId, untilAt] of holds) {
        if (untilAt > now) closed.add(clientId);
        else holds.delete(clientId);
      }
      for (const [clientId, count] of running) if (count >= limits.clientMost) closed.add(clientId);
      for (const origin of origins.values()) if (shut(origin, now) || origin.running >= limits.originMost) for (const one of origin.clients) closed.add(one);
      return [...closed];
    },
    view: (now) => [...origins].map(([origin, one]) => ({ origin, running: one.running, openUntilAt: isOpen(one) ? Math.max(one.openUntilAt, now) : null })),
  };
}
