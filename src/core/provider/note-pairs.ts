/**
 * Reads pasted notes into labels and values, whatever wrote them: `label: value`, `label = value`, tables with tabs or aligned spaces, a
 * label with its value on the next line, `.env` files, and JSON on one line or many.
 */
export interface NotePair {
  /** Empty: the value stands alone. */
  label: string;
  value: string;
  /** From 1. */
  line: number;
}

const MAX_PAIRS = 500;
const MAX_TEXT = 20_000;

/** The field for which a text alone is the label; undefined: it is none. */
export type FieldOfLabel = (text: string) => string | undefined;

export function notePairs(notes: string, fieldOf: FieldOfLabel): NotePair[] {
  const text = notes.slice(0, MAX_TEXT);
  return (jsonPairs(text) ?? linePairs(text, fieldOf)).slice(0, MAX_PAIRS);
}

function jsonPairs(text: string): NotePair[] | null {
  if (!/^\s*[{[]/.test(text)) return null;
  let document: unknown;
  try {
    document = JSON.parse(text);
  } catch {
    return null;
  }
  const lines = text.split(/\r?\n/);
  const pairs: NotePair[] = [];
  const add = (label: string, value: string) => {
    const quoted = JSON.stringify(value).slice(1, -1);
    const at = lines.findIndex((line) => line.includes(quoted));
    pairs.push({ label, value, line: at + 1 || 1 });
  };
  const walk = (label: string, value: unknown, depth: number): void => {
    if (pairs.length >= MAX_PAIRS || depth > 8) return;
    if (typeof value === 'string' || typeof value === 'number') {
      if (String(value).trim() !== '') add(label, String(value).trim());
    } else if (Array.isArray(value)) {
      const texts = value.filter((one): one is string => typeof one === 'string');
      if (/scope/i.test(label) && texts.length > 0) add(label, texts.join(' '));
      else for (const one of value) walk(label, one, depth + 1);
    } else if (value !== null && typeof value === 'object') for (const [key, member] of Object.entries(value)) walk(key, member, depth + 1);
  };
  walk('', document, 0);
  return pairs;
}

const BULLET = /^(?:[-*\u2022>]\s+|export\s+)/;
const isAddress = (text: string): boolean => /^https?:\/\//i.test(text);

function linePairs(text: string, fieldOf: FieldOfLabel): NotePair[] {
  const pairs: NotePair[] = [];
  /** A label whose value is on the next line. */
  let waiting: { label: string; line: number } | null = null;
  text.split(/\r?\n/).forEach((raw, at) => {
    const bare = raw.trim().replace(BULLET, '');
    if (bare === '' || /^[{}[\],]+$/.test(bare)) return;
    const line = at + 1;
    const pair = pairOf(bare, fieldOf);
    if (pair && pair.value !== '') {
      pairs.push({ ...pair, line });
      waiting = null;
      return;
    }
    const alone = unquoted(pair ? pair.label : bare.slice(0, MAX_LABEL));
    if (waiting === null && (pair !== null || fieldOf(alone) !== undefined)) {
      waiting = { label: alone, line };
      return;
    }
    pairs.push({ label: waiting?.label ?? '', value: unquoted(bare), line });
    waiting = null;
  });
  // Nothing came behind it: the line is still named.
  const last = waiting as { label: string; line: number } | null;
  if (last) pairs.push({ label: '', value: last.label, line: last.line });
  return pairs;
}

/** A longer label is none. */
const MAX_LABEL = 80;
const MAX_LABEL_WORDS = 6;

/**
 * The label and value of one line; an empty value: it is on the next line. Null: there is no label. Each rule is one search from the left, so
 * that a line is read in a time that grows with its length alone.
 */
function pairOf(text: string, fieldOf: FieldOfLabel): { label: string; value: string } | null {
  if (isAddress(text)) return null;
  return addressed(text) ?? separated(text, fieldOf);
}

/** An address ends the label before it; its colon is no separator. */
function addressed(text: string): { label: string; value: string } | null {
  const at = text.search(/https?:\/\//i);
  const before = text[at - 1] ?? '';
  const value = text.slice(Math.max(at, 0)).replace(/["'`]?[,;]?$/, '');
  if (at < 1 || at > MAX_LABEL + 4 || !/[\s"'`]/.test(before) || /[\s"'`]/.test(value)) return null;
  const label = unquoted(
    text
      .slice(0, at)
      .replace(/["'`]$/, '')
      .trimEnd()
      .replace(/[:=]$/, ''),
  );
  return label === '' ? null : { label, value };
}

function separated(text: string, fieldOf: FieldOfLabel): { label: string; value: string } | null {
  const head = text.slice(0, MAX_LABEL + 2);
  const gap = head.search(/\t| {2}/); // a column of a table
  const mark = head.search(/[:=]/);
  const at = gap >= 1 && (mark < 0 || gap <= mark) ? gap : mark;
  const found = at < 1 ? null : { label: unquoted(text.slice(0, at)), value: unquoted(text.slice(at).replace(at === gap ? /^\s+[:=]?/ : /^(?:=>|[:=])/, '')) };
  // A colon may belong to the value: `audience pm:dir:staff`. Words that are a label alone end it, where no separator does.
  const worded = found && at === gap ? null : behindLabel(text, fieldOf);
  const pair = worded ?? found;
  return pair === null || pair.label === '' ? null : { label: pair.label.replace(/[:=]$/, '').trim(), value: pair.value };
}

/** Words that belong to the label before them. */
const OF_LABEL = /^(?:values?|on|at|in|by|to|until|is|dates?|ids?|ur[il]s?|address(?:es)?)$/i;

/**
 * The beginning of the line that is a label, in whole words, with one value behind it: `Ends on 2027-03-01`. Of a sentence about a field nothing is
 * taken.
 */
function behindLabel(text: string, fieldOf: FieldOfLabel): { label: string; value: string } | null {
  let best: { end: number; field: string } | null = null;
  let before = 0; // where the word before ended
  for (const { index, 0: word } of [...text.slice(0, MAX_LABEL).matchAll(/\S+/g)].slice(0, MAX_LABEL_WORDS)) {
    const end = index + word.length;
    const field = fieldOf(text.slice(0, end));
    const isPart = best !== null && best.end === before && OF_LABEL.test(word);
    if (field !== undefined && (best === null || field !== best.field || isPart)) best = { end, field };
    before = end;
  }
  if (best === null) return null;
  const value = unquoted(text.slice(best.end));
  const isOne = !/\s/.test(value) || best.field === 'scopes' || readDay(value) !== null;
  return value !== '' && isOne && !/^[:=]|[:=](?:\s|$)/.test(value) ? { label: text.slice(0, best.end), value } : null;
}

const unquoted = (text: string): string =>
  text
    .trim()
    .replace(/,$/, '')
    .replace(/^(["'`])(.*)\1[,;]?$/, '$2')
    .trim();

/** A label as words: `CLIENT_ID`, `clientId` and “Application (client) ID” alike. */
export const labelWords = (label: string): string =>
  label
    .replace(/([a-z])([A-Z])/g, '$1 $2')
    .replace(/[^\p{L}\p{N}]+/gu, ' ')
    .trim()
    .toLowerCase();

const MONTHS = ['jan', 'feb', 'mar', 'apr', 'may', 'jun', 'jul', 'aug', 'sep', 'oct', 'nov', 'dec'];
const day = (year: number, month: number, date: number): number | null => {
  const at = Date.UTC(year, month - 1, date);
  const read = new Date(at);
  return read.getUTCMonth() === month - 1 && read.getUTCDate() === date && year > 2000 && year < 2200 ? at : null;
};

/**
 * A day as pages show it, in epoch ms at its beginning (UTC); an instant as it is. Null: no day, or one that may be read in two ways
 * (`3/4/2027`). A number is the epoch seconds of RFC 7591 §3.2.1, where 0 means that it does not end.
 */
export function readDay(text: string): number | null {
  const clean = text.trim();
  const iso = /^(\d{4})-(\d{2})-(\d{2})(T\S+)?/.exec(clean);
  if (iso) return iso[4] && !Number.isNaN(Date.parse(iso[0])) ? Date.parse(iso[0]) : day(Number(iso[1]), Number(iso[2]), Number(iso[3]));
  if (/^\d{9,10}$/.test(clean)) return Number(clean) * 1000;
  const dotted = /^(\d{1,2})\.(\d{1,2})\.(\d{4})\b/.exec(clean);
  if (dotted) return day(Number(dotted[3]), Number(dotted[2]), Number(dotted[1]));
  const slashed = /^(\d{1,2})\/(\d{1,2})\/(\d{4})\b/.exec(clean);
  if (slashed) {
    const [one, other, year] = [Number(slashed[1]), Number(slashed[2]), Number(slashed[3])];
    if (one === other || one > 12) return day(year, other, one);
    return other > 12 ? day(year, one, other) : null;
  }
  const worded = /^(?:[a-z]{3,9},? )?(?:(\d{1,2})(?:st|nd|rd|th)? ([a-z]{3,9})\.?,? (\d{4})|([a-z]{3,9})\.? (\d{1,2})(?:st|nd|rd|th)?,? (\d{4}))\b/i.exec(
    clean,
  );
  if (!worded) return null;
  const month = MONTHS.indexOf((worded[2] ?? worded[4] ?? '').slice(0, 3).toLowerCase()) + 1;
  return month === 0 ? null : day(Number(worded[3] ?? worded[6]), month, Number(worded[1] ?? worded[5]));
}
