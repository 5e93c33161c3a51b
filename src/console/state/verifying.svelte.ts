import type { ActivityVerified } from '../../api/activity.ts';
import { Action } from './query.svelte.ts';
import { call } from './session.svelte.ts';

const MAX_PIECES = 100_000;

/** Verifies the activity log piece by piece, and shows how far it is. */
export class Verifying {
  broken = $state.raw<ActivityVerified['broken']>(null);
  says = $state('');
  readonly #doing = new Action();
  readonly #verify: (cursor: string | null) => Promise<ActivityVerified>;

  constructor(verify: (cursor: string | null) => Promise<ActivityVerified> = (cursor) => call('verifyActivity', { body: { cursor } })) {
    this.#verify = verify;
  }
  get busy(): boolean {
    return this.#doing.busy;
  }
  get problem() {
    return this.#doing.problem;
  }

  start(): Promise<unknown> {
    return this.#doing.run(async () => {
      this.broken = null;
      this.says = 'Verifying\u2026';
      let checked = 0;
      for (let cursor: string | null = null, pieces = 0; pieces < MAX_PIECES; pieces += 1) {
        const piece: ActivityVerified = await this.#verify(cursor);
        checked += piece.checked;
        this.broken = piece.broken;
        if (piece.broken) return;
        if (piece.next === null) {
          const older = piece.unchained ? ` ${piece.unchained.count} entries of earlier versions stand in no chain.` : '';
          this.says = `Verified: ${checked} entries in ${piece.chains} chains are as they were written.${older}`;
          return;
        }
        cursor = piece.next;
        this.says = `Verifying\u2026 ${checked} entries so far.`;
      }
    });
  }
}
