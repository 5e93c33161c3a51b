import type { ComposedCall, OfferedOperation, SavedCall } from '../../api/trying.ts';
import { MASK } from '../../core/calls/stored-values.ts';

type Pair = { name: string; value: string };
const NAMED = /\{([A-Za-z][A-Za-z0-9_.-]{0,39})\}/g;
const READS = ['GET', 'HEAD', 'OPTIONS'];

/** A call that is being composed, and the values for the names in it. Runs without a page. */
export class Composed {
  method = $state<ComposedCall['method']>('GET');
  path = $state('/');
  query = $state.raw<Pair[]>([]);
  headers = $state.raw<Pair[]>([]);
  body = $state('');
  values = $state<Record<string, string>>({});
  /** What is said of each name, where an operation or a saved call says something. */
  says = $state.raw<Record<string, string>>({});
  saved = $state<string | null>(null);
  #opened = $state<string | null>(null);
  /** The saved call that has the values shown as `(secret)`. */
  #from = $state<string | null>(null);

  readonly call = $derived<ComposedCall>({
    method: this.method,
    path: this.path.trim() || '/',
    query: this.query.filter((one) => one.name !== ''),
    headers: this.headers.filter((one) => one.name !== ''),
    body: this.body === '' ? null : this.body,
    ...(this.#from === null ? {} : { from: this.#from }),
  });
  /** The saved call that has values which are not shown. */
  readonly masked = $derived(JSON.stringify([this.call, this.values]).includes(MASK) ? this.#from : null);
  readonly names = $derived.by(() => {
    const texts = [this.path, ...this.query.map((one) => one.value), ...this.headers.map((one) => one.value), this.body];
    return [...new Set(texts.flatMap((text) => [...text.matchAll(NAMED)].map((match) => match[1] as string)))];
  });
  /** Names without a value: those that an operation or a saved call declares, and those in path and query. `known`: filled in by the connection. */
  lacking(known: Readonly<Record<string, string>>): string[] {
    const wanted = [this.path, ...this.query.map((one) => one.value)].join(' ');
    return this.names.filter((name) => !this.values[name] && known[name] === undefined && (this.says[name] !== undefined || wanted.includes(`{${name}}`)));
  }
  /** The name of the saved call that stands here unchanged; null: it was changed, or is none. */
  readonly unchanged = $derived(this.saved !== null && JSON.stringify(this.call) === this.#opened ? this.saved : null);
  readonly writes = $derived(!READS.includes(this.method));

  /** Begins with an operation: its parameters become names to fill in, its body an example. */
  take(operation: OfferedOperation): void {
    const of = (where: string) => operation.parameters.filter((one) => one.in === where);
    this.method = operation.method as ComposedCall['method'];
    this.path = operation.path;
    this.query = of('query')
      .filter((one) => one.required || one.example !== '')
      .map((one) => ({ name: one.name, value: one.example || `{${one.name}}` }));
    this.headers = of('header').map((one) => ({ name: one.name, value: one.example || `{${one.name}}` }));
    this.body = operation.body === null ? '' : pretty(operation.body);
    this.values = Object.fromEntries(of('path').flatMap((one) => (one.example ? [[one.name, one.example]] : [])));
    this.says = Object.fromEntries(operation.parameters.map((one) => [one.name, one.says]));
    [this.saved, this.#from] = [null, null];
  }

  /** Begins with a saved call; fixed values stand in its parameters. */
  open(saved: SavedCall): void {
    this.load(saved.call);
    this.values = Object.fromEntries(saved.parameters.map((one) => [one.name, one.value ?? '']));
    this.says = Object.fromEntries(saved.parameters.map((one) => [one.name, one.says]));
    this.keptAs(saved.name);
  }

  /** What stands here is saved under this name. */
  keptAs(name: string): void {
    this.#from = name;
    [this.saved, this.#opened] = [name, JSON.stringify(this.call)];
  }

  load(call: ComposedCall): void {
    this.method = call.method;
    this.path = call.path;
    this.query = [...call.query];
    this.headers = [...call.headers];
    this.body = call.body === null ? '' : pretty(call.body);
    this.values = {};
    this.says = {};
    [this.saved, this.#from] = [null, null];
  }
}

const pretty = (text: string): string => {
  try {
    return JSON.stringify(JSON.parse(text), null, 2);
  } catch {
    return text; // not JSON: as it came
  }
};

const MAX_COLUMNS = 12;

/** The first list of records in a document as a table: at the top, or at a member of it. Null: there is none. */
export function tableOf(value: unknown): { at: string; columns: string[]; rows: Record<string, string>[] } | null {
  const isRecords = (one: unknown): one is Record<string, unknown>[] =>
    Array.isArray(one) && one.length > 0 && one.every((row) => typeof row === 'object' && row !== null && !Array.isArray(row));
  const [at, records] = isRecords(value)
    ? ['', value]
    : typeof value === 'object' && value !== null
      ? (Object.entries(value).find((entry): entry is [string, Record<string, unknown>[]] => isRecords(entry[1])) ?? ['', null])
      : ['', null];
  if (!records) return null;
  const columns = [...new Set(records.slice(0, 50).flatMap((row) => Object.keys(row)))].slice(0, MAX_COLUMNS);
  const shown = (one: unknown): string => (one === undefined || one === null ? '' : typeof one === 'object' ? JSON.stringify(one) : String(one));
  return { at, columns, rows: records.map((row) => Object.fromEntries(columns.map((column) => [column, shown(row[column])]))) };
}
