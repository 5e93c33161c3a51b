/** Bounds a cache to so many entries. `max` would take room for all of them at once: 9 MB for 200,000 that may never come. */
export const boundedCache = (entries: number): { maxSize: number; sizeCalculation: () => number } => ({ maxSize: entries, sizeCalculation: () => 1 });
