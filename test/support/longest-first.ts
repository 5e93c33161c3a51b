// The order of the test files. A file of several minutes that starts last keeps one core busy while the other idles, so the long
// ones start first. Vitest knows durations from an earlier run only, and a fresh clone has none.
import { BaseSequencer, type TestSpecification } from 'vitest/node';

/** Longest first, as measured on two cores. A name that is missing here costs time, never a result. */
const LONGEST = [
  'console',
  'rehearsal',
  'killpoints',
  'guide-walks',
  'notices',
  'machine-bad-days',
  'jobs',
  'run-killpoints',
  'people-browser',
  'people',
  'jobs-faults',
  'people-asked',
  'quota',
  'watches',
  'browser',
  'consent-bad-days',
  'any-provider',
  'relay',
  'rk-habits',
  'grant-types',
  'cli',
  'registering',
  'consent-browser',
  'clock-set',
  'proxy',
  'callers',
  'canary',
  'history',
  'diagnosis',
  'session-step',
  'provider-down',
  'fuzz',
  'walk-through',
  'berthline',
];

const placeOf = ({ moduleId }: TestSpecification): number => {
  const name = /\/test\/([^/]+)\.test\.ts$/.exec(moduleId)?.[1];
  if (name === undefined) return LONGEST.length + 1; // tests of one module: short
  const at = LONGEST.indexOf(name);
  return at < 0 ? LONGEST.length : at;
};

export default class LongestFirst extends BaseSequencer {
  override async sort(files: TestSpecification[]): Promise<TestSpecification[]> {
    return [...files].sort((a, b) => placeOf(a) - placeOf(b));
  }
}
