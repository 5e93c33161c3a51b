/** A number with its noun, as people read it: `1 run`, `1,200 runs`, `2 people`. */
export const counted = (count: number, one: string, many = `${one}s`): string => `${count.toLocaleString('en-US')} ${count === 1 ? one : many}`;
