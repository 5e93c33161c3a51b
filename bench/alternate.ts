import { type Ratio, say } from './rig.ts';

/** Both sides of a ratio, measured in short slices that alternate, so that a machine that slows down slows both. */
export interface Compared extends Ratio {
  /** The medians, in the unit of the sides. */
  ours: number;
  theirs: number;
}

interface Sides {
  what: string;
  ours: () => Promise<number>;
  theirs: () => Promise<number>;
  slices: number;
  /** Slices of each side before any is counted. */
  warmUp?: number;
}

/** The value below which this share of the values lies. */
const quantile = (values: number[], share: number): number => {
  const sorted = [...values].sort((a, b) => a - b);
  const at = (sorted.length - 1) * share;
  const [low, high] = [sorted[Math.floor(at)] ?? 0, sorted[Math.ceil(at)] ?? 0];
  return low + (high - low) * (at - Math.floor(at));
};

const median = (values: number[]): number => quantile(values, 0.5);

/** Measures both sides in turns; which of them begins changes from slice to slice. */
export async function alternate({ what, ours, theirs, slices, warmUp = 1 }: Sides): Promise<Compared> {
  for (let slice = 0; slice < warmUp; slice += 1) {
    await theirs();
    await ours();
  }
  const seen: { ours: number; theirs: number }[] = [];
  for (let slice = 0; slice < slices; slice += 1) {
    if (slice % 2 === 0) seen.push({ theirs: await theirs(), ours: await ours() });
    else {
      const first = await ours();
      seen.push({ ours: first, theirs: await theirs() });
    }
  }
  const ratios = seen.map((slice) => slice.ours / slice.theirs);
  const compared = {
    ours: median(seen.map((slice) => slice.ours)),
    theirs: median(seen.map((slice) => slice.theirs)),
    ratio: median(ratios),
    low: quantile(ratios, 0.25),
    high: quantile(ratios, 0.75),
  };
  say(`${what}: ${slices} slices, ratio ${compared.ratio.toFixed(2)} (quartiles ${compared.low.toFixed(2)} to ${compared.high.toFixed(2)})`);
  return compared;
}
