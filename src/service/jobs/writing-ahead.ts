import { writerOf } from '../../core/output/format.ts';
import type { RunLease, RunRow, RunStore } from '../store/runs.ts';
import type { Writing } from '../workers/index.ts';
import { type FileParts, fileParts } from './file-parts.ts';

/**
 * The files of a run, written while its pages come: what is in memory already need not be read back. Whenever it cannot be done so, the
 * files are written from the kept pages afterwards.
 */
export interface WritingAhead {
  /** A page that is saved, as JSON text. Waits while several are on their way. */
  page(content: string, records: number): Promise<void>;
  /** What it wrote is of no use: pages were discarded. */
  abandon(): void;
  /** How many records are in the files; null: they have to be written from the kept pages. */
  finish(): Promise<number | null>;
}

const PAGES_AT_ONCE = 4;
const bytes = (text: string): Buffer => Buffer.from(text, 'utf8');

/** Only a run from its first page to its last, with nothing before it, and with columns that are known before the first record. */
const isPossible = ({ plan, checkpoint }: RunRow): boolean =>
  plan.base.length === 0 && checkpoint.sequence === 0 && plan.formats.every((format) => format !== 'csv' || plan.layout.columns.length > 0);

/** Null: it cannot be done for this run. */
export async function writeAhead(
  s: { store: { runs: RunStore }; writing: Pick<Writing, 'page'> },
  { row, lease, leaseMs }: { row: RunRow; lease: RunLease; leaseMs: number },
): Promise<WritingAhead | null> {
  const { formats, layout } = row.plan;
  if (formats.length === 0 || !isPossible(row)) return null;
  await s.store.runs.discardFiles(row.id); // of whoever began before us
  const files = formats.map((format) => ({ format, writer: writerOf(format, layout, []), parts: fileParts(s.store.runs, { lease, leaseMs, format }) }));
  let [isGood, written, underWay] = [true, 0, 0];
  let tail: Promise<void> = Promise.resolve();
  const then = (work: () => Promise<boolean>): void => {
    tail = tail.then(async () => {
      if (isGood && !(await work().catch(() => false))) isGood = false;
    });
  };
  const each = (pieces: (at: number) => Promise<Uint8Array> | Uint8Array) => async (): Promise<boolean> => {
    for (const [at, { parts }] of files.entries()) if (!(await (parts as FileParts).add(await pieces(at)))) return false;
    return true;
  };
  then(each((at) => bytes(files[at]?.writer.head() ?? '')));
  return {
    async page(content, records) {
      if (!isGood || records === 0) return;
      const isFirst = written === 0;
      written += records;
      underWay += 1;
      const made = files.map(({ format }) => s.writing.page({ content, format, layout, isFirst }));
      for (const one of made) one.catch(() => undefined); // thrown where it is awaited
      then(each((at) => made[at] as Promise<Uint8Array>));
      const mine = tail.then(() => {
        underWay -= 1;
      });
      if (underWay >= PAGES_AT_ONCE) await mine;
    },
    abandon: () => {
      isGood = false;
    },
    async finish() {
      then(each((at) => bytes(files[at]?.writer.tail() ?? '')));
      then(async () => (await Promise.all(files.map(({ parts }) => parts.end()))).every(Boolean));
      await tail;
      return isGood ? written : null;
    },
  };
}
