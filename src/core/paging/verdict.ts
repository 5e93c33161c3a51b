import { type Ended, type Guard, isGuard } from './walk.ts';

/** What is known of a finished collection. Counts are of records. */
export interface Collected {
  ended: Ended;
  /** Without doubles. */
  records: number;
  doubles: number;
  /** Records without the identifying field. */
  withoutId: number;
  idKnown: boolean;
  /** The provider's totals, over all pages that named one; null: none did. */
  totals: { first: number; last: number; least: number; most: number } | null;
  pages: number;
  slices: number;
  /** Slices that could not be halved further and met the cap. */
  cappedSlices: number;
  /** Of the last complete run over the same range; null: there is none. */
  lastRecords: number | null;
  expectedLeast: number | null;
  /** By how many percent a run may differ from the last one. */
  deviationMost: number | null;
}
export const VERDICTS = ['complete', 'incomplete', 'cannot_tell'] as const;
type Verdict = (typeof VERDICTS)[number];
/** One fact behind a verdict; `against`: it keeps the result from being called complete. */
interface Evidence {
  says: string;
  side: 'for' | 'against' | 'note';
}
export interface Completeness {
  verdict: Verdict;
  evidence: Evidence[];
  deviates: boolean;
}

const number = (value: number): string => value.toLocaleString('en-US');
const GUARD_WORDS: Record<Guard, string> = {
  repeated_link: 'The provider named a page that was read already: its links go in a circle.',
  repeated_page: 'The provider sent a page that was read already: it may ignore the paging parameter.',
  foreign_link: 'The next link leads to a host outside the API. It was not followed.',
  pages_limit: 'The limit of pages was reached.',
  records_limit: 'The limit of records was reached.',
  bytes_limit: 'The limit of bytes was reached.',
  cap_reached: 'The provider\u2019s cap was reached, and no date parameters are known by which to slice the list.',
};
const END_WORDS: Record<Exclude<Ended, Guard>, string> = {
  no_next: 'The last page names no next page.',
  empty_page: 'The page after the last is empty.',
  short_page: 'The last page is shorter than the others.',
  total_reached: 'The provider\u2019s total was reached.',
  short_page_at_total: 'The last page is shorter than the others, and the total was reached.',
  one_page: 'The response is one page. No paging is known for this call.',
};
const endInWords = (ended: Ended): string => (isGuard(ended) ? GUARD_WORDS[ended] : END_WORDS[ended]);

/** Caps are round numbers: a list that ends on one, without a total, may have been cut. */
const looksCapped = (records: number): boolean => records >= 500 && records % 500 === 0;

/** Whether a collection holds everything, with the evidence. Without evidence nothing is called complete. */
export function judge(c: Collected): Completeness {
  const evidence: Evidence[] = [];
  const add = (side: Evidence['side'], says: string): void => void evidence.push({ side, says });
  const deviates = deviation(c, add);
  let isShort = false;
  if (isGuard(c.ended)) {
    add('against', endInWords(c.ended));
    isShort = true;
  }
  if (c.cappedSlices > 0) {
    add('against', `${c.cappedSlices === 1 ? 'One slice meets' : `${number(c.cappedSlices)} slices meet`} the cap and cannot be cut further.`);
    isShort = true;
  }
  if (c.expectedLeast !== null && c.records < c.expectedLeast) {
    add('against', `${number(c.records)} records; at least ${number(c.expectedLeast)} are expected.`);
    isShort = true;
  }
  const byTotal = totalsIn(c, add);
  if (c.doubles > 0) add('note', `${number(c.doubles)} ${c.doubles === 1 ? 'double was' : 'doubles were'} removed by the identifying field.`);
  if (c.idKnown && c.withoutId > 0) add('note', `${number(c.withoutId)} records lack the identifying field. They are kept, and not compared.`);
  if (isShort || byTotal === 'short') return { verdict: 'incomplete', evidence, deviates };
  // In slices each total is of one slice: the ends of all slices count.
  const drifted = byTotal === 'drift' || c.doubles > 0;
  if (drifted) add('against', 'Records were inserted or deleted while the pages were read.');
  const byEnd = endEvidence(c, add);
  return { verdict: !drifted && (byTotal === 'match' || (byTotal === null && byEnd)) ? 'complete' : 'cannot_tell', evidence, deviates };
}

/** What the provider's totals show; null: it names none. */
function totalsIn(c: Collected, add: (side: Evidence['side'], says: string) => void): 'match' | 'short' | 'drift' | 'unreliable' | null {
  const { totals } = c;
  if (totals === null || c.slices > 1) return null;
  if (totals.least !== totals.most) {
    add('note', `The provider\u2019s total changed from ${number(totals.first)} to ${number(totals.last)}.`);
    return c.records < totals.least && !isGuard(c.ended) ? 'short' : 'drift';
  }
  const of = `${number(c.records)} of ${number(totals.last)}`;
  if (c.records === totals.last) {
    add('for', `${of}: matches the provider\u2019s total.`);
    return 'match';
  }
  if (c.records < totals.last) {
    add('against', `${of} records, by the provider\u2019s total.`);
    return 'short';
  }
  add('against', `The provider\u2019s total is ${number(totals.last)}, and ${number(c.records)} records came: the total is wrong.`);
  return 'unreliable';
}

function endEvidence(c: Collected, add: (side: Evidence['side'], says: string) => void): boolean {
  if (isGuard(c.ended)) return false;
  if (c.ended === 'one_page') {
    add('note', endInWords(c.ended));
    return false;
  }
  add('for', c.slices > 1 ? `All ${number(c.slices)} slices ended below the cap.` : endInWords(c.ended));
  if (c.totals !== null || c.slices > 1 || !looksCapped(c.records)) return true;
  add('against', `Exactly ${number(c.records)} records: the provider may cap the list without reporting it.`);
  return false;
}

function deviation(c: Collected, add: (side: Evidence['side'], says: string) => void): boolean {
  if (c.lastRecords === null) return false;
  const difference = c.records - c.lastRecords;
  const percent = c.lastRecords === 0 ? (difference === 0 ? 0 : 100) : Math.round((100 * Math.abs(difference)) / c.lastRecords);
  add('note', `The last complete run had ${number(c.lastRecords)} (${difference >= 0 ? '+' : '\u2212'}${number(Math.abs(difference))}).`);
  const isOver = c.deviationMost !== null && percent > c.deviationMost;
  if (isOver) add('note', `It differs by ${percent} %; up to ${c.deviationMost} % is expected.`);
  return isOver;
}
