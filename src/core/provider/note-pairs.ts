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

const PAIRS_MOST = 500;
const TEXT_MOST = 20_000;

/** @param isLabel true for a text that alone is the label of a field: its value is on the next line */
export function notePairs(notes: string, isLabel: (text: string) => boolean): NotePair[] {
  const text = notes.slice(0, TEXT_MOST);
  return (jsonPairs(text) ?? linePairs(text, isLabel)).slice(0, PAIRS_MOST);
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
    if (pairs.length >= PAIRS_MOST || depth > 8) return;
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

function linePairs(text: string, isLabel: (text: string) => boolean): NotePair[] {
  const pairs: NotePair[] = [];
  let waiting: string | null = null;
  text.split(/\r?\n/).forEach((raw, at) => {
    const bare = raw.trim().replace(BULLET, '');
    if (bare === '' || /^[{}[\],]+$/.test(bare)) return;
    const line = at + 1;
    const pair = pairOf(bare);
    if (pair && pair.value !== '') {
      pairs.push({ ...pair, line });
      waiting = null;
      return;
    }
    const alone = unquoted(pair ? pair.label : bare);
    if (waiting === null && (pair !== null || isLabel(alone))) {
      waiting = alone;
      return;
    }
    pairs.push({ label: waiting ?? '', value: unquoted(bare), line });
    waiting = null;
  });
  return pairs;
}

/** The label and value of one line; an empty value: it stands on the next line. Null: there is no label. */
function pairOf(text: string): { label: string; value: string } | null {
  // An address ends the label before it; its colon is no separator.
  const address = /^(\S.{0,78}?)\s*[:=]?\s+["'`]?(https?:\/\/[^\s"'`]+)["'`]?[,;]?$/i.exec(text);
  if (address && !isAddress(text)) return { label: unquoted((address[1] ?? '').replace(/[:=]$/, '')), value: address[2] ?? '' };
  const table = /^([^\t]{2,80}?)\t+\s*(.+)$/.exec(text) ?? /^(\S.{0,78}?\S) {2,}(\S.*)$/.exec(text);
  const marked = /^([^:=]{2,80}?)\s*(?:[:=]|\s=>)\s*(.*)$/.exec(text);
  // A colon or an equals sign may belong to the value: of a table, the gap decides.
  const found = table && (!marked || (marked[1]?.length ?? 0) >= (table[1]?.length ?? 0)) ? table : marked;
  if (!found || isAddress(text)) return null;
  const [label, value] = [unquoted(found[1] ?? ''), unquoted(found[2] ?? '')];
  return label === '' ? null : { label: label.replace(/[:=]$/, '').trim(), value };
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
