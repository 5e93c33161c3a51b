export interface BatchLimits {
  /** Rows in one statement. */
  most: number;
  /** Statements under way at once. */
  atOnce: number;
  /** Beside another that is under way, a batch of so many rows is worth a statement of its own; a smaller one waits, in ms, for so long. */
  worth: number;
  patienceMs: number;
}

/**
 * Turns single writes into statements of many rows: while an earlier batch is under way, what comes in waits for the next one.
 * Nothing waits when nothing is under way. A batch that fails is repeated row by row, so that one bad row harms no other.
 */
export function batched<Item, Result>(run: (items: Item[]) => Promise<Result[]>, limits: BatchLimits): (item: Item) => Promise<Result> {
  interface Waiting {
    item: Item;
    resolve(result: Result): void;
    reject(cause: unknown): void;
  }
  let waiting: Waiting[] = [];
  let underWay = 0;
  let timer: NodeJS.Timeout | null = null;
  const settle = async (batch: Waiting[]): Promise<void> => {
    try {
      const results = await run(batch.map((one) => one.item));
      batch.forEach((one, at) => {
        one.resolve(results[at] as Result);
      });
    } catch (cause) {
      if (batch.length === 1) batch[0]?.reject(cause);
      else await Promise.all(batch.map((one) => settle([one])));
    }
  };
  const begin = (): void => {
    if (timer) clearTimeout(timer);
    timer = null;
    if (waiting.length === 0 || underWay >= limits.atOnce) return;
    const batch = waiting.slice(0, limits.most);
    waiting = waiting.slice(limits.most);
    underWay += 1;
    void settle(batch).finally(() => {
      underWay -= 1;
      next();
    });
  };
  const next = (): void => {
    if (underWay === 0 || waiting.length >= limits.worth) begin();
    else if (waiting.length > 0 && underWay < limits.atOnce) timer ??= setTimeout(begin, limits.patienceMs);
  };
  return (item) =>
    new Promise((resolve, reject) => {
      waiting.push({ item, resolve, reject });
      // After the present turn: what is requested together goes together.
      queueMicrotask(next);
    });
}
