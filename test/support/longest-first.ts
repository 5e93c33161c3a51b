// The order of the test files. A file of several minutes that starts last keeps one core busy while the other idles, so the long
// ones start first. Vitest knows durations from an earlier run only, and a fresh clone has none.
import { BaseSequencer, type TestSpecification } from 'vitest/node';

/** Longest first, as measured on two cores. A name that is missing here costs time, never a result. */
const LONGEST = [
  'backup',
  'notices',
  'machine-bad-days',
  'killpoints',
  'quota',
  'attacked',
  'console',
  'guide-walks',
  'canary',
  'standby',
  'browser',
  'provider-down',
  'database-back',
  'limits',
  'cli',
  'processes',
  'jobs',
  'keys',
  'operators',
  'grant-types',
  'relay',
  'berthline',
  'registering',
  'fuzz',
  'clock-set',
  'run-killpoints',
  'client-secrets',
  'surface',
  'consent-browser',
  'examples',
  'tls',
  'callers-browser',
  'callers',
  'bundle',
  'people',
  'diagnosis',
  'jobs-faults',
  'trying',
  'upcoming',
  'session-step',
  'people-browser',
  'main-path',
  'consent-bad-days',
  'dialect',
  'privilege',
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
