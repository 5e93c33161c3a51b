/**
 * Turns single writes into statements of many rows: while earlier batches are under way, what comes in waits for the next one.
 * Nothing waits when nothing is under way. A batch that fails is repeated row by row, so that one bad row harms no other.
 */
export function batched<Item, Result>(run: (items: Item[]) => Promise<Result[]>, options: { most: number; atOnce: number }): (item: Item) => Promise<Result> {
  interface Waiting {
    item: Item;
    resolve(result: Result): void;
    reject(cause: unknown): void;
  }
  let waiting: Waiting[] = [];
  let underWay = 0;
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
  const next = (): void => {
    if (waiting.length === 0 || underWay >= options.atOnce) return;
    const batch = waiting.slice(0, options.most);
    waiting = waiting.slice(options.most);
    underWay += 1;
    void settle(batch).finally(() => {
      underWay -= 1;
      next();
    });
  };
  return (item) =>
    new Promise((resolve, reject) => {
      waiting.push({ item, resolve, reject });
      // After the present turn: what is asked for together goes together.
      queueMicrotask(next);
    });
}
