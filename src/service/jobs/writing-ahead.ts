import { writerOf } from '../../core/output/format.ts';
import type { Format } from '../../core/output/formats.ts';
import type { RunLease, RunRow, RunStore } from '../store/runs.ts';
import type { Writing } from '../workers/index.ts';
import { fileParts } from './file-parts.ts';

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

interface Work {
  row: RunRow;
  lease: RunLease;
  leaseMs: number;
}
interface Parts {
  store: { runs: RunStore };
  writing: Pick<Writing, 'pages'>;
}

/** Characters that go to a thread together: to wake one for each page costs more than its work. */
const TOGETHER = 1_000_000;
const MAX_UNDER_WAY = 3;

/** Only a run from its first page to its last, with nothing before it, and with columns that are known before the first record. */
const isPossible = ({ plan, checkpoint }: RunRow): boolean =>
  plan.formats.length > 0 &&
  plan.base.length === 0 &&
  checkpoint.sequence === 0 &&
  plan.formats.every((format) => format !== 'csv' || plan.layout.columns.length > 0);

/** Null: it cannot be done for this run. */
export async function writeAhead(s: Parts, work: Work): Promise<WritingAhead | null> {
  if (!isPossible(work.row)) return null;
  await s.store.runs.discardFiles(work.row.id); // of whoever began before us
  const files = work.row.plan.formats.map((format) => fileAhead(s, work, format));
  let [isAbandoned, written, isFirst] = [false, 0, true];
  let [waiting, size] = [[] as string[], 0];
  /** What the threads work on, the oldest first. */
  let underWay: Promise<unknown>[] = [];
  const send = (): void => {
    if (size === 0) return;
    const contents = waiting;
    underWay.push(Promise.all(files.map((file) => file.pages(contents, isFirst))));
    [waiting, size, isFirst] = [[], 0, false];
  };
  return {
    async page(content, records) {
      if (isAbandoned || records === 0) return;
      written += records;
      waiting.push(content);
      size += content.length;
      if (size >= TOGETHER) send();
      if (underWay.length > MAX_UNDER_WAY) await underWay.shift();
    },
    abandon: () => {
      isAbandoned = true;
    },
    async finish() {
      if (!isAbandoned) send();
      underWay = [];
      const ends = await Promise.all(files.map((file) => file.finish()));
      return !isAbandoned && ends.every(Boolean) ? written : null;
    },
  };
}

/** One file: its pieces in their order. False from the first one on that could not be made or saved. */
function fileAhead(
  s: Parts,
  { row, lease, leaseMs }: Work,
  format: Format,
): { pages(contents: string[], isFirst: boolean): Promise<boolean>; finish(): Promise<boolean> } {
  const { layout } = row.plan;
  const writer = writerOf(format, layout, []);
  const parts = fileParts(s.store.runs, { lease, leaseMs, format });
  let tail: Promise<boolean> = Promise.resolve(true);
  const then = (work: () => Promise<boolean>): Promise<boolean> => {
    tail = tail.then((isGood) => isGood && work()).catch(() => false);
    return tail;
  };
  const add = (text: string) => then(() => parts.add(Buffer.from(text, 'utf8')));
  void add(writer.head());
  return {
    pages(contents, isFirst) {
      const made = s.writing.pages({ contents, format, layout, isFirst });
      made.catch(() => undefined); // thrown where it is awaited
      return then(async () => parts.add(await made));
    },
    async finish() {
      await add(writer.tail());
      return then(() => parts.end());
    },
  };
}
