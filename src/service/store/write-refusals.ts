/** The database answers reads and takes no writes: its disk is full, or it is read-only. */
export interface WriteRefusal {
  /** Epoch ms of the first refusal. */
  since: number;
  /** The error of the database. */
  says: string;
}
/** What this process sees of refused writes. */
export interface WriteRefusals {
  refused(says: string): void;
  accepted(): void;
  /** Null: writes are accepted, as far as this process tried any. */
  state(): WriteRefusal | null;
}

/** A single refusal is none: while a disk fills up, single writes fail first. */
const LASTING_MS = 1_000;
/** On a nearly full disk small writes still succeed: only after so long without a refusal it is over. */
const QUIET_MS = 5_000;

/** @param now epoch ms */
export function writeRefusals(now: () => number = Date.now): WriteRefusals {
  let first: number | null = null;
  let lastAt = 0;
  let current: WriteRefusal | null = null;
  return {
    refused(says) {
      const at = now();
      if (first === null || (current === null && at - lastAt > QUIET_MS)) first = at;
      lastAt = at;
      if (current !== null || at - first >= LASTING_MS) current = { since: first, says };
    },
    accepted() {
      if (first !== null && now() - lastAt > QUIET_MS) [first, current] = [null, null];
    },
    state: () => current,
  };
}
