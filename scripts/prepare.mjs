// Brings a bare Debian machine with Node.js to where `npm run demo` and `npm test` can work: npm packages, MariaDB,
// Chromium, curl, Python, build. Plain Node.js, because it runs before any package is there. Usage: node scripts/prepare.mjs [mariadb] [galera] [chromium] [tools] [wrk] [build]
import { execFileSync, spawnSync } from 'node:child_process';
import { existsSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { unlessDone } from './hash.mjs';

const root = join(dirname(fileURLToPath(import.meta.url)), '..');
const wanted = process.argv.slice(2);
const say = (text) => process.stderr.write(`${text}\n`);

function run(command, args, options = {}) {
  const done = spawnSync(command, args, { cwd: root, stdio: ['ignore', 'inherit', 'inherit'], ...options });
  if (done.status !== 0) throw new Error(`\`${command} ${args.join(' ')}\` failed`);
}

function debian(packageName, proof, extra = []) {
  if (proof.some((path) => existsSync(path))) return;
  const by = process.getuid() === 0 ? [] : hasSudo() ? ['sudo', '-n'] : null;
  const command = `apt-get install -y --no-install-recommends ${[packageName, ...extra].join(' ')}`;
  if (!by || !existsSync('/usr/bin/apt-get')) {
    say(`This needs the Debian package ${packageName}. As root:\n  apt-get update && ${command}`);
    process.exit(1);
  }
  say(`Installing ${packageName} from Debian's packages\u2026`);
  const quiet = { stdio: ['ignore', 'ignore', 'inherit'], env: { ...process.env, DEBIAN_FRONTEND: 'noninteractive' } };
  const [first, ...rest] = [...by, 'apt-get', '-q'];
  run(first, [...rest, 'update'], quiet);
  run(first, [...rest, ...command.split(' ').slice(1)], quiet);
}

function hasSudo() {
  try {
    execFileSync('sudo', ['-n', 'true'], { stdio: 'ignore' });
    return true;
  } catch {
    return false;
  }
}

try {
  await unlessDone(root, 'node_modules/.lock-stamp', ['package.json', 'package-lock.json'], () => {
    say('Installing npm packages\u2026');
    run('npm', ['ci', '--no-audit', '--no-fund', '--loglevel=error']);
  });
  if (wanted.includes('mariadb')) debian('mariadb-server', ['/usr/sbin/mariadbd', '/usr/local/sbin/mariadbd']);
  if (wanted.includes('galera')) debian('galera-4', ['/usr/lib/galera/libgalera_smm.so'], ['rsync']);
  if (wanted.includes('chromium')) debian('chromium', ['/usr/bin/chromium']);
  // Load that takes little of the cores itself, for the benchmark of several processes.
  if (wanted.includes('wrk')) debian('wrk', ['/usr/bin/wrk']);
  // What ordinary tools are made of: the examples are run with them.
  if (wanted.includes('tools'))
    for (const name of ['curl', 'python3', 'openssl'])
      debian(
        name,
        [...(process.env.PATH ?? '').split(':'), '/usr/bin'].map((folder) => join(folder, name)),
      );
  if (wanted.includes('build')) run(process.execPath, ['scripts/build.mjs']);
} catch (error) {
  say(error.message);
  process.exit(1);
}
