import { at, type Json } from '../json.ts';
import { idReader, nextOfHeader } from './page.ts';
import type { PagingPlan } from './plan.ts';

/** A way of paging that a response suggests, with what suggests it. Nothing is followed before someone confirms it. */
interface Guess {
  plan: PagingPlan;
  /** From what was seen: strong where the response names the next page. */
  confidence: 'strong' | 'likely' | 'weak';
  evidence: string[];
}
/** What is known of a call beside its response. */
export interface Seen {
  document: unknown;
  header(name: string): string | undefined;
  /** Of the call that was made. */
  query: Readonly<Record<string, string>>;
  /** Names of parameters that the definition lists for the operation. */
  parameters: readonly string[];
}
export interface Recognized {
  /** The lists found, the longest first. None: the operation answers no list. */
  lists: { at: string | null; count: number }[];
  guesses: Guess[];
}

const ID_NAMES = ['id', 'uuid', 'guid', 'key', '_id', 'uid', 'number', 'code'];
const SIZE_NAMES = ['limit', 'per_page', 'page_size', 'pagesize', 'pageSize', 'size', 'max_results', 'maxResults', 'count', 'top', 'rows'];
const PAGE_NAMES = ['page', 'page_number', 'pageNumber', 'p'];
const OFFSET_NAMES = ['offset', 'start', 'skip', 'startAt', 'start_at', 'startIndex', 'start_index'];
const KEY_NAMES = ['after_id', 'since_id', 'starting_after', 'last_id', 'after'];
const TOTAL = /^(total|count|totalcount|totalresults|totalitems|totalrecords|totalsize|resultcount|size)$/;
const NEXT = /^(@?.*\.)?next(link|url|page|uri|href|cursor|pagetoken|token)?$|^(cursor|continuation|continuationtoken|scrollid|after|more)$/;
const MORE = /^(hasmore|hasnext|hasnextpage|more|moreavailable|moreresults)$/;
const DEEPEST = 3;
const MAX_MEMBERS = 200;
const MAX_NAME = 100;

const plain = (name: string): string => name.toLowerCase().replace(/[_\-\s]/g, '');
const step = (name: string): string => name.replaceAll('~', '~0').replaceAll('/', '~1');

interface Member {
  pointer: string;
  name: string;
  value: unknown;
}
/** Members of objects, not of records, to a small depth. */
function membersOf(document: unknown): Member[] {
  const found: Member[] = [];
  const look = (value: unknown, pointer: string, depth: number): void => {
    if (typeof value !== 'object' || value === null || Array.isArray(value) || depth > DEEPEST) return;
    for (const [name, inner] of Object.entries(value as Json).slice(0, MAX_MEMBERS)) {
      if (name.length > MAX_NAME) continue;
      if (found.length >= 1_000) return;
      found.push({ pointer: `${pointer}/${step(name)}`, name, value: inner });
      look(inner, `${pointer}/${step(name)}`, depth + 1);
    }
  };
  look(document, '', 1);
  return found;
}

const holdsObjects = (list: readonly unknown[]): boolean =>
  list.length > 0 && list.slice(0, 20).every((one) => typeof one === 'object' && one !== null && !Array.isArray(one));

/** The arrays of objects, the longest first; an empty array counts where there is no other. */
function listsOf(document: unknown, members: readonly Member[]): Recognized['lists'] {
  if (Array.isArray(document)) return [{ at: null, count: document.length }];
  const arrays = members.filter((one): one is Member & { value: unknown[] } => Array.isArray(one.value));
  const full = arrays.filter((one) => holdsObjects(one.value));
  const chosen = full.length > 0 ? full : arrays.filter((one) => one.value.length === 0);
  return chosen.map((one) => ({ at: one.pointer, count: one.value.length })).sort((a, b) => b.count - a.count);
}

/** The field that is there in each record and has another value in each. */
function guessId(records: readonly unknown[]): string | undefined {
  if (records.length === 0) return undefined;
  const named = ID_NAMES.find((name) => {
    const ids = records.map(idReader(`/${name}`));
    return !ids.includes(null) && new Set(ids).size === ids.length;
  });
  return named === undefined ? undefined : `/${named}`;
}

/**
 * How a list may be paged, by its first response: each guess with evidence, the strongest first.
 * @param listAt the list that is meant where there are several; left out: the longest
 */
export function recognize(seen: Seen, listAt?: string | null): Recognized {
  const members = membersOf(seen.document);
  const lists = listsOf(seen.document, members);
  const list = listAt === undefined ? lists[0] : lists.find((one) => one.at === listAt);
  if (!list) return { lists, guesses: [] };
  const records = (list.at === null ? seen.document : at(seen.document, list.at)) as unknown[];
  const outside = members.filter((one) => list.at === null || !one.pointer.startsWith(`${list.at}/`));
  const id = guessId(records);
  const names = [...new Set([...Object.keys(seen.query), ...seen.parameters])];
  const size = names.find((name) => SIZE_NAMES.includes(name));
  const total = outside.find(
    (one) => TOTAL.test(plain(one.name)) && typeof one.value === 'number' && one.value >= records.length && Number.isInteger(one.value),
  );
  const common = {
    ...(list.at === null ? {} : { items: list.at }),
    ...(id === undefined ? {} : { id }),
    ...(total === undefined ? {} : { total: total.pointer }),
    ...(size === undefined ? {} : { size_parameter: size }),
  };
  const about = [
    `${records.length} records ${list.at === null ? 'in the response itself' : `at ${list.at}`}`,
    ...(total === undefined ? [] : [`${total.pointer} is ${String(total.value)}`]),
    ...(id === undefined ? [] : [`${id} is different in each record`]),
  ];
  const guesses = [linkHeader(seen), ...nexts(outside, names), counting(outside, names, records.length), keyset(names, id)]
    .filter((one): one is Found => one !== null)
    .map(({ plan, confidence, evidence }): Guess => ({ plan: { ...common, ...plan }, confidence, evidence: [...evidence, ...about] }));
  if (guesses.length === 0)
    guesses.push({ plan: { ...common, style: 'none' }, confidence: 'weak', evidence: ['Nothing in the response names a next page', ...about] });
  const order = { strong: 0, likely: 1, weak: 2 };
  return { lists, guesses: guesses.sort((a, b) => order[a.confidence] - order[b.confidence]) };
}

interface Found extends Guess {}

function linkHeader(seen: Seen): Found | null {
  const next = nextOfHeader(seen.header('link'));
  return next === null ? null : { plan: { style: 'link_header' }, confidence: 'strong', evidence: ['The Link header names a next page (RFC 8288)'] };
}

/** A next link or cursor in the body. */
function nexts(outside: readonly Member[], names: readonly string[]): Found[] {
  const more = outside.find((one) => MORE.test(plain(one.name)) && typeof one.value === 'boolean');
  const withMore = more === undefined ? {} : { more: more.pointer };
  return outside.flatMap((one): Found[] => {
    if (!NEXT.test(plain(one.name)) || (typeof one.value !== 'string' && typeof one.value !== 'number') || one.value === '') return [];
    const value = String(one.value);
    if (/^https?:\/\//i.test(value) || value.startsWith('/') || value.startsWith('?'))
      return [{ plan: { style: 'next_link', next: one.pointer, ...withMore }, confidence: 'strong', evidence: [`${one.pointer} holds an address`] }];
    const bare = plain(one.name).replace(/^next/, '');
    const parameter = names.find((name) => plain(name) === bare) ?? names.find((name) => /cursor|token|after|continuation/.test(plain(name)));
    return [
      {
        plan: {
          style: 'cursor',
          next: one.pointer,
          parameter: parameter ?? one.name.replace(/^next[_-]?/i, '').replace(/^./, (letter) => letter.toLowerCase()),
          ...withMore,
        },
        confidence: parameter === undefined ? 'likely' : 'strong',
        evidence: [`${one.pointer} holds a cursor`, parameter === undefined ? 'The name of its parameter is a guess' : `The operation takes ${parameter}`],
      },
    ];
  });
}

/** Page numbers or offsets, by what the operation takes and what the body repeats. */
function counting(outside: readonly Member[], names: readonly string[], length: number): Found | null {
  const inBody = (of: readonly string[]) => outside.find((one) => of.includes(one.name) && typeof one.value === 'number');
  const [page, offset] = [inBody(PAGE_NAMES), inBody(OFFSET_NAMES)];
  const parameter = (of: readonly string[], body: Member | undefined) => names.find((name) => of.includes(name)) ?? body?.name;
  const pageName = parameter(PAGE_NAMES, page);
  const offsetName = parameter(OFFSET_NAMES, offset);
  const pages = outside.find((one) => /^(pages|totalpages|pagecount|lastpage)$/.test(plain(one.name)) && typeof one.value === 'number');
  if (offsetName !== undefined && (page === undefined || offset !== undefined))
    return {
      plan: { style: 'offset', parameter: offsetName, ...(offset?.value === 1 ? { first: 1 } : {}) },
      confidence: offset === undefined ? 'weak' : 'likely',
      evidence: [offset === undefined ? `The operation takes ${offsetName}` : `${offset.pointer} is ${String(offset.value)}`],
    };
  if (pageName === undefined) return null;
  return {
    plan: { style: 'page_number', parameter: pageName, ...(page?.value === 0 ? { first: 0 } : {}) },
    confidence: page !== undefined && (pages === undefined || Number(pages.value) > 1) && length > 0 ? 'likely' : 'weak',
    evidence: [
      page === undefined ? `The operation takes ${pageName}` : `${page.pointer} is ${String(page.value)}`,
      ...(pages === undefined ? [] : [`${pages.pointer} is ${String(pages.value)}`]),
    ],
  };
}

function keyset(names: readonly string[], id: string | undefined): Found | null {
  const parameter = names.find((name) => KEY_NAMES.includes(name));
  return parameter === undefined || id === undefined
    ? null
    : { plan: { style: 'keyset', parameter, next: id }, confidence: 'weak', evidence: [`The operation takes ${parameter}`] };
}
