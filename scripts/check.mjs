// `npm test`: checks of the text, then all tests. Ends with the line `N passed, N failed`.
// `--coverage` (`npm run coverage`): the same, and which lines they ran, against a floor. It takes a third longer, so it is run by hand.
// `--quick`: the checks of the text that take seconds, for a commit. Other arguments go to Vitest: `npm test -- test/quota.test.ts`.
import { spawn } from 'node:child_process';
import { existsSync, mkdirSync, mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { coverageLine } from './coverage.mjs';

const root = join(dirname(fileURLToPath(import.meta.url)), '..');
const bin = (path) => join(root, 'node_modules', path);
const CODE = ['src', 'testing', 'test', 'demo', 'bench'];
const ALONE = 'test/alone';
const AUDIT_LIMIT_MS = 20_000;

const QUICK = [
  ['types', 'typescript/bin/tsc', ['-p', 'tsconfig.json']],
  ['lint', '@biomejs/biome/bin/biome', ['check', '--error-on-warnings', '.']],
  ['import rules', 'dependency-cruiser/bin/dependency-cruise.mjs', ['--config', '.dependency-cruiser.cjs', ...CODE]],
];
const CHECKS = [
  ...QUICK,
  ['types of the server, which knows no browser', 'typescript/bin/tsc', ['-p', 'tsconfig.server.json']],
  ['types of the console', 'svelte-check/bin/svelte-check', ['--tsconfig', 'src/console/tsconfig.json', '--fail-on-warnings', '--output', 'human']],
  ['format of the markup', 'prettier/bin/prettier.cjs', ['--check', '--log-level', 'warn', 'src/console/**/*.svelte']],
  ['unused files, exports and packages', 'knip/bin/knip.js', ['--no-progress', '--no-config-hints']],
  ['links in the documents', 'remark-cli/cli.js', ['--quiet', '--frail', 'README.md', 'CHANGELOG.md', 'CONTRIBUTING.md', 'docs']],
];

const args = process.argv.slice(2);
const quick = args.includes('--quick');
const isCovering = args.includes('--coverage');
const only = args.filter((arg) => arg !== '--quick' && arg !== '--coverage');
const folder = mkdtempSync(join(tmpdir(), 'rk-check-'));
const report = join(folder, 'report.json');
const childFolder = join(folder, 'children');
const unitFolder = join(folder, 'units');
mkdirSync(childFolder);

/** Runs a program and gathers what it writes. */
function gathered(command, parameters, limitMs) {
  return new Promise((resolve) => {
    const child = spawn(command, parameters, { cwd: root, stdio: ['ignore', 'pipe', 'pipe'], timeout: limitMs });
    let said = '';
    for (const stream of [child.stdout, child.stderr])
      stream.on('data', (part) => {
        said += part;
      });
    child.on('error', () => resolve({ code: 1, said }));
    child.on('close', (code) => resolve({ code, said }));
  });
}

/** The checks, two at a time; true for each that holds. */
async function checked(checks) {
  const waiting = [...checks];
  const results = [];
  const work = async () => {
    for (let next = waiting.shift(); next; next = waiting.shift()) {
      const [name, path, parameters] = next;
      const { code, said } = await gathered(process.execPath, [bin(path), ...parameters]);
      process.stdout.write(`${code === 0 ? 'ok  ' : 'FAIL'} ${name}\n${code === 0 ? '' : `${said}\n`}`);
      results.push(code === 0);
    }
  };
  await Promise.all([work(), work()]);
  return results;
}

/** Known vulnerabilities, where the registry answers: reported, and never a failure. */
async function audit() {
  const { said } = await gathered('npm', ['audit', '--omit=dev', '--json'], AUDIT_LIMIT_MS);
  const start = said.indexOf('{');
  let counts;
  try {
    counts = JSON.parse(said.slice(start)).metadata?.vulnerabilities;
  } catch {
    counts = undefined;
  }
  return counts
    ? `audit: ${counts.total} known vulnerabilities in what ships (${counts.high + counts.critical} high or critical)`
    : 'audit: not available here';
}

/** One round of tests; what they covered is gathered where `covers` says so. */
function vitest(parameters, covers) {
  const coverage = covers
    ? [
        '--coverage.enabled',
        '--coverage.provider=v8',
        '--coverage.reporter=json',
        `--coverage.reportsDirectory=${unitFolder}`,
        '--coverage.include=src/**/*.ts',
      ]
    : [];
  return new Promise((resolve) => {
    spawn(
      process.execPath,
      [bin('vitest/vitest.mjs'), 'run', '--reporter=default', '--reporter=json', `--outputFile.json=${report}`, ...coverage, ...parameters],
      {
        cwd: root,
        stdio: ['ignore', 'inherit', 'inherit'],
        env: { ...process.env, ...(covers ? { RK_CHILD_COVERAGE: childFolder } : {}) },
      },
    ).on('close', resolve);
  });
}

let [passed, failed] = [0, 0];
const count = (holds) => {
  if (holds) passed += 1;
  else failed += 1;
};
try {
  if (only.length === 0) {
    for (const holds of await checked(quick ? QUICK : CHECKS)) count(holds);
    if (!quick) process.stdout.write(`${await audit()}\n`);
  }
  // What fills both cores, or measures how long things take, runs automatically afterwards.
  const rounds = quick
    ? []
    : only.length > 0
      ? [{ parameters: only, covers: false }]
      : [
          { parameters: ['--exclude', `${ALONE}/**`], covers: isCovering },
          { parameters: [ALONE, '--no-file-parallelism'], covers: false },
        ];
  for (const { parameters, covers } of rounds) {
    const code = await vitest(parameters, covers);
    const before = failed;
    if (existsSync(report)) {
      const { numPassedTests, numFailedTests, testResults } = JSON.parse(readFileSync(report, 'utf8'));
      const brokenFiles = testResults.filter((file) => file.status === 'failed' && file.assertionResults.length === 0).length;
      passed += numPassedTests;
      failed += numFailedTests + brokenFiles;
      rmSync(report);
    }
    if (code !== 0 && failed === before) failed += 1;
  }
  // After a failed test there is no figure: the runner writes none, and what did not run would count a second time.
  if (isCovering && only.length === 0 && failed === 0) {
    const { line, holds } = await coverageLine(root, unitFolder, childFolder);
    process.stdout.write(`${line}\n`);
    count(holds);
  }
} finally {
  rmSync(folder, { recursive: true, force: true });
}
process.stdout.write(`${passed} passed, ${failed} failed\n`);
process.exitCode = failed === 0 && passed > 0 ? 0 : 1;
