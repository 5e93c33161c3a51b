// `npm test`: types, lint, import rules, and all tests. Ends with the line `N passed, N failed`.
import { spawn } from 'node:child_process';
import { existsSync, mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';

const root = join(dirname(fileURLToPath(import.meta.url)), '..');
const bin = (path) => join(root, 'node_modules', path);
const run = (name, path, args) =>
  new Promise((resolve) => {
    const child = spawn(process.execPath, [bin(path), ...args], { cwd: root, stdio: ['ignore', 'pipe', 'pipe'] });
    let said = '';
    child.stdout.on('data', (part) => {
      said += part;
    });
    child.stderr.on('data', (part) => {
      said += part;
    });
    child.on('close', (code) => {
      process.stdout.write(`${code === 0 ? 'ok  ' : 'FAIL'} ${name}\n${code === 0 ? '' : `${said}\n`}`);
      resolve(code === 0);
    });
  });

const ALONE = 'test/alone';
const only = process.argv.slice(2);
const folder = mkdtempSync(join(tmpdir(), 'rk-check-'));
const report = join(folder, 'report.json');
const vitest = (args) =>
  new Promise((resolve) => {
    spawn(process.execPath, [bin('vitest/vitest.mjs'), 'run', '--reporter=default', '--reporter=json', `--outputFile.json=${report}`, ...args], {
      cwd: root,
      stdio: ['ignore', 'inherit', 'inherit'],
    }).on('close', resolve);
  });
let [passed, failed] = [0, 0];
try {
  if (only.length === 0) {
    const checks = [
      ['types', 'typescript/bin/tsc', ['-p', 'tsconfig.json']],
      ['types of the console', 'svelte-check/bin/svelte-check', ['--tsconfig', 'src/console/tsconfig.json', '--fail-on-warnings', '--output', 'human']],
      ['lint', '@biomejs/biome/bin/biome', ['check', '--error-on-warnings', '.']],
      ['import rules', 'dependency-cruiser/bin/dependency-cruise.mjs', ['--config', '.dependency-cruiser.cjs', 'src']],
    ];
    for (const [name, path, args] of checks) {
      if (await run(name, path, args)) passed += 1;
      else failed += 1;
    }
  }
  // What fills both cores, or measures how long things take, runs by itself afterwards.
  const rounds =
    only.length > 0
      ? [only]
      : [
          ['--exclude', `${ALONE}/**`],
          [ALONE, '--no-file-parallelism'],
        ];
  for (const args of rounds) {
    const code = await vitest(args);
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
} finally {
  rmSync(folder, { recursive: true, force: true });
}
process.stdout.write(`${passed} passed, ${failed} failed\n`);
process.exitCode = failed === 0 && passed > 0 ? 0 : 1;
