/**
 * The bound of a loop that waits for something to happen: `for await (const _ of looks({ withinMs, everyMs }))`. Yields at once, then after
 * each pause until the time is over, in ms. Ours rather than a package's: those race each look against a timer, and drop a look that is under
 * way; here it is finished, and what it brings counts.
 */
export async function* attempts({ withinMs, everyMs }: { withinMs: number; everyMs: number }): AsyncGenerator<number, void, void> {
  const startedAt = performance.now();
  for (let look = 0; look === 0 || performance.now() < startedAt + withinMs; look += 1) {
    yield look;
    await new Promise<void>((resolve) => setTimeout(resolve, everyMs));
  }
}
