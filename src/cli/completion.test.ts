import { spawnSync } from 'node:child_process';
import { existsSync } from 'node:fs';
import { expect, test } from 'vitest';
import { completionFor, places, SHELLS } from './completion.ts';
import { program } from './program.ts';

const rk = program();

test('every command and option is completed at its place', () => {
  const all = new Map(places(rk).map((one) => [one.path, one.words.map(({ word }) => word)]));
  expect(all.get('')).toEqual(expect.arrayContaining(['status', 'connection', '--output', '--help']));
  expect(all.get('connection list')).toEqual(expect.arrayContaining(['--watch', '--help']));
  expect(all.get('completion')).toEqual(expect.arrayContaining([...SHELLS]));
});

test.each([
  { typed: ['connection', 'li'], at: 'list' },
  { typed: ['client', 'secret', 'ver'], at: 'verify' },
  { typed: ['--output', 'json', 'sta'], at: 'status' },
  { typed: ['completion', 'z'], at: 'zsh' },
])('bash completes rk $typed', ({ typed, at }) => {
  const words = ['rk', ...typed].map((word) => `'${word}'`).join(' ');
  const script = `${completionFor('bash', rk)}\nCOMP_WORDS=(${words}); COMP_CWORD=${typed.length}; _rk; printf '%s\\n' "\${COMPREPLY[@]}"`;
  const { stdout, stderr } = spawnSync('bash', ['-c', script], { encoding: 'utf8' });
  expect([stderr, stdout.trim().split('\n')]).toEqual(['', expect.arrayContaining([at])]);
});

test.each(SHELLS)('the script for %s is read by its shell, where that is here, and quotes nothing wrongly', (shell) => {
  const script = completionFor(shell, rk);
  expect(script.split("'").length % 2).toBe(1); // each quote is closed
  if (existsSync(`/usr/bin/${shell}`) || existsSync(`/bin/${shell}`)) expect(spawnSync(shell, ['-n'], { input: script, encoding: 'utf8' }).stderr).toBe('');
});
