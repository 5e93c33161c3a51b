import type { ApiClient } from '../../api/client.ts';
import type { Preview, Recognized, Run } from '../../api/jobs.ts';
import type { ComposedCall } from '../../api/trying.ts';
import { planAt } from './job-draft.svelte.ts';
import { Action } from './query.svelte.ts';

const LOOK_MS = 400;
export const isOver = (run: Pick<Run, 'state'>): boolean => run.state !== 'running' && run.state !== 'waiting';

/** "600 of 1,312 records, 3 pages, 410/s, 2 s left". */
export function progressInWords(run: Pick<Run, 'records' | 'total' | 'pages' | 'seconds'>): string {
  const rate = run.seconds > 0 ? run.records / run.seconds : 0;
  const left = run.total === null || rate === 0 || run.records >= run.total ? '' : `, ${Math.ceil((run.total - run.records) / rate)} s left`;
  return `${recordsInWords(run)}, ${run.pages === 1 ? '1 page' : `${run.pages} pages`}, ${Math.round(rate)}/s${left}`;
}
export const recordsInWords = ({ records, total }: Pick<Run, 'records' | 'total'>): string =>
  `${records.toLocaleString('en-US')}${total === null ? '' : ` of ${total.toLocaleString('en-US')}`} records`;

/** What is collected: a call as it is composed, or a saved one by its name, so that its paging is kept with it. */
export interface Collected {
  connection: string;
  call: ComposedCall;
  saved: string | null;
  values: Record<string, string>;
}
const bodyOf = ({ call, saved, values }: Collected) => (saved === null ? { call, values } : { saved, values });

/** One collection from Test call: recognize, confirm, follow, look at the result. Runs without a page. */
export class Collecting {
  found = $state.raw<Recognized | null>(null);
  /** Of the guesses; -1: as the definition states. */
  chosen = $state(-1);
  run = $state.raw<Run | null>(null);
  preview = $state.raw<Preview | null>(null);
  readonly doing = new Action();
  readonly #call: ApiClient;
  #timer: ReturnType<typeof setTimeout> | undefined;

  constructor(call: ApiClient) {
    this.#call = call;
  }

  readonly plan = $derived(this.found === null ? null : this.chosen < 0 ? this.found.declared : planAt(this.found, this.chosen));
  readonly part = $derived(this.run === null || this.run.total === null || this.run.total === 0 ? null : Math.min(1, this.run.records / this.run.total));

  /** Paging that someone confirmed and that the definition does not state: what is worth keeping with the call. */
  readonly confirmed = $derived(this.run !== null && this.chosen >= 0 ? this.plan : null);

  /** @param listAt which of several lists holds the records; undefined: the product chooses */
  recognize(what: Collected, listAt?: string | null): Promise<boolean> {
    this.stop();
    [this.found, this.run, this.preview] = [null, null, null];
    return this.doing.run(async () => {
      const found = await this.#call('recognizePaging', {
        params: { connection: what.connection },
        body: { ...bodyOf(what), ...(listAt === undefined ? {} : { list_at: listAt }) },
      });
      this.chosen = found.declared === null || listAt !== undefined ? 0 : -1;
      this.found = found;
    });
  }

  start(what: Collected, days: number | null): Promise<boolean> {
    return this.doing.run(async () => {
      const range = days === null ? null : { days };
      this.run = await this.#call('collect', {
        params: { connection: what.connection },
        body: { ...bodyOf(what), ...(this.plan && this.chosen >= 0 ? { paging: this.plan } : {}), range },
      });
      this.#follow();
    });
  }

  cancel(): Promise<boolean> {
    return this.doing.run(async () => {
      if (this.run) this.run = await this.#call('cancelRun', { params: { run: this.run.id } });
    });
  }

  stop(): void {
    clearTimeout(this.#timer);
  }

  #follow(): void {
    clearTimeout(this.#timer);
    this.#timer = setTimeout(() => void this.#look().catch(() => this.#follow()), LOOK_MS); // unreached: the run goes on without us
  }

  async #look(): Promise<void> {
    if (!this.run) return;
    this.run = await this.#call('showRun', { params: { run: this.run.id } });
    if (!isOver(this.run)) return this.#follow();
    if (this.run.state === 'done') this.preview = await this.#call('previewRun', { params: { run: this.run.id }, query: { limit: 100 } });
  }
}
