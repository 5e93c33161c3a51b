// What the tests covered, in one figure: lines of src run by unit tests, by service tests in their own process, or by child processes (V8).
import { existsSync, readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { Report } from 'c8';
import coverage from 'istanbul-lib-coverage';

const COUNTED = /^src\/(core|api|service|cli|standins|console\/(state|ui))\/.*\.ts$/;

/** Statements of the unit run say which lines count; a line is covered if either side ran it. */
async function coveredLines(root, unitFolder, childFolder) {
  const units = coverage.createCoverageMap(JSON.parse(readFileSync(join(unitFolder, 'coverage-final.json'), 'utf8')));
  const children = coverage.createCoverageMap({});
  if (existsSync(childFolder) && readdirSync(childFolder).length > 0) {
    const report = new Report({
      tempDirectory: childFolder,
      include: ['src/**', 'dist/**'],
      exclude: [],
      src: [root],
      reporter: [],
      mergeAsync: true,
      excludeAfterRemap: false,
    });
    children.merge(await report.getCoverageMapFromAllCoverageFiles());
  }
  const files = {};
  for (const path of units.files()) {
    const name = path.slice(root.length + 1);
    if (!COUNTED.test(name)) continue;
    const own = units.fileCoverageFor(path).getLineCoverage();
    const others = children.files().includes(path) ? children.fileCoverageFor(path).getLineCoverage() : {};
    const lines = Object.keys(own);
    files[name] = { lines: lines.length, covered: lines.filter((line) => own[line] > 0 || others[line] > 0).length };
  }
  return files;
}

/** The floor in percent: it may only be raised. Killed processes write nothing, so the figure moves a little between runs. */
const FLOOR = 92;

/** One line for people, and whether the floor holds. */
export async function coverageLine(root, unitFolder, childFolder) {
  const files = Object.values(await coveredLines(root, unitFolder, childFolder));
  const lines = files.reduce((sum, file) => sum + file.lines, 0);
  const covered = files.reduce((sum, file) => sum + file.covered, 0);
  const percent = (100 * covered) / Math.max(1, lines);
  const holds = percent >= FLOOR;
  return {
    line: `${holds ? 'ok  ' : 'FAIL'} coverage: ${percent.toFixed(1)} % of ${lines} lines, by unit tests and child processes (floor ${FLOOR} %)`,
    holds,
  };
}
