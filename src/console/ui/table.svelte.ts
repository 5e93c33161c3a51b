/** A column: what its cells are sorted by; without that it is not sorted. */
export interface Column<T> {
  key: string;
  label: string;
  sortBy?(row: T): string | number;
  /** Classes of its head and cells. */
  class?: string;
}

/** The order and the selection of a table's rows. */
export class TableState<T> {
  sort = $state<{ key: string; descending: boolean } | null>(null);
  #selected = $state.raw<ReadonlySet<string>>(new Set());
  readonly #columns: readonly Column<T>[];
  readonly #idOf: (row: T) => string;

  constructor(columns: readonly Column<T>[], idOf: (row: T) => string) {
    this.#columns = columns;
    this.#idOf = idOf;
  }

  /** Ascending, descending, then as they came. */
  sortBy(key: string): void {
    if (this.sort?.key !== key) this.sort = { key, descending: false };
    else this.sort = this.sort.descending ? null : { key, descending: true };
  }

  /** The rows in the order chosen; equal ones stay as they came. */
  ordered(rows: readonly T[]): readonly T[] {
    const { sort } = this;
    const by = this.#columns.find((column) => column.key === sort?.key)?.sortBy;
    if (!sort || !by) return rows;
    const sign = sort.descending ? -1 : 1;
    return [...rows].sort((a, b) => {
      const [x, y] = [by(a), by(b)];
      return (x < y ? -1 : x > y ? 1 : 0) * sign;
    });
  }

  has(row: T): boolean {
    return this.#selected.has(this.#idOf(row));
  }

  toggle(row: T): void {
    const next = new Set(this.#selected);
    if (!next.delete(this.#idOf(row))) next.add(this.#idOf(row));
    this.#selected = next;
  }

  /** Selects all of these rows, or none where all of them are selected. */
  toggleAll(rows: readonly T[]): void {
    this.#selected = rows.every((row) => this.has(row)) ? new Set() : new Set(rows.map(this.#idOf));
  }

  clear(): void {
    this.#selected = new Set();
  }

  /** Ids of those selected that are still among these rows: nothing is done to what nobody sees. */
  selected(rows: readonly T[]): string[] {
    return rows.filter((row) => this.has(row)).map(this.#idOf);
  }
}
