import { readFileSync, writeFileSync } from 'node:fs';
import { cpus, totalmem } from 'node:os';
import { join } from 'node:path';
import { openBrowser } from '../testing/chromium.ts';
import { startPrivateMariadb } from '../src/service/database/private-mariadb.ts';
import { newDatabaseOn } from '../testing/new-database-on.ts';
import { newFolder, removeFolder } from '../testing/service.ts';
import { benchHandouts, benchMemory, benchPause } from './handouts.ts';
import { benchRelay } from './relay.ts';
import { benchClaims, benchRenewals } from './renewals.ts';
import { type Measured, say } from './rig.ts';
import { benchConsole, benchStartup } from './startup.ts';
import { benchViews } from './views.ts';

/** `npm run bench`: measures everything in one run on one machine, and writes docs/BENCHMARKS.md with its chart. */
const ROOT = new URL('..', import.meta.url).pathname;
const parts: [name: string, run: (databaseUrl: string, another: () => Promise<string>) => Promise<Measured[]>][] = [
  ['start', benchStartup],
  ['console', benchConsole],
  ['handouts', benchHandouts],
  ['relay', benchRelay],
  ['renewals', (databaseUrl) => benchRenewals(databaseUrl)],
  ['claims', (databaseUrl) => benchClaims(databaseUrl)],
  ['views', benchViews],
  ['memory', (databaseUrl) => benchMemory(databaseUrl)],
  ['pause', (databaseUrl) => benchPause(databaseUrl)],
];
const only = process.argv.slice(2);
const folder = newFolder();
const server = await startPrivateMariadb({ folder });
const measured: Measured[] = [];
try {
  for (const [name, run] of parts) {
    if (only.length > 0 && !only.includes(name)) continue;
    say(`measuring ${name}\u2026`);
    const rows = await run(await newDatabaseOn(server.url), () => newDatabaseOn(server.url));
    for (const row of rows) say(`  ${row.holds ? 'holds' : 'MISSES'}  ${row.what}: ${row.ours} (${row.against}${row.ratio === null ? '' : `, ${row.ratio.toFixed(2)} \u00d7`}; target ${row.target})`);
    measured.push(...rows);
  }
} finally {
  await server.stop();
  removeFolder(folder);
}
if (only.length === 0) {
  writeFileSync(join(ROOT, 'docs/BENCHMARKS.md'), page(measured));
  await draw(measured);
  say('written to docs/BENCHMARKS.md');
}
process.exit(measured.every((one) => one.holds) ? 0 : 1);

function page(rows: Measured[]): string {
  const processors = cpus();
  const machine = `${processors.length} cores (${processors[0]?.model.trim() || 'unknown'}), ${Math.round(totalmem() / 2 ** 30)} GiB, Node.js ${process.version}, MariaDB on the same machine`;
  const table = rows.map((one) => `| ${one.what} | ${one.ours} | ${one.against} | ${one.ratio === null ? '\u2013' : one.ratio.toFixed(2)} | ${one.target} | ${one.holds ? 'yes' : '**no**'} |`);
  return `<!-- Written by \`npm run bench\`; do not edit by hand. -->
# Benchmarks

Measured by \`npm run bench\` on ${new Date().toISOString().slice(0, 10)}: ${machine}. Load and service share the machine, and the figures of one run differ from those of the next by a quarter: the ratios count, each of them from the same minutes.

| what | here | against | ratio | target | holds |
|---|---|---|---|---|---|
${table.join('\n')}

![Ratios against their targets](screenshots/benchmarks.png)

What is compared: a handout with a bare \`node:http\` handler that reads the same POST and answers the same bytes; a renewal with a bare loop of the same POST and one durable UPDATE by the driver, at the same concurrency (64); a relayed call with a proxy of \`node:http\` and \`undici\` that checks nothing and sends a fixed token; a claim of 64 due rows with a million connections behind them and with ten thousand. Medians of three rounds (claims: of 25, starts: of 21).
`;
}

/** The ratios as bars, each with a mark at its target, drawn by Chart.js in Chromium. */
async function draw(rows: Measured[]): Promise<void> {
  const shown = rows.filter((one) => one.ratio !== null);
  const browser = await openBrowser();
  try {
    const chart = await browser.context.newPage();
    await chart.setViewportSize({ width: 1100, height: 420 });
    await chart.setContent('<body style="margin:20px;background:#fff;font:16px sans-serif"><div style="height:380px"><canvas id="c"></canvas></div></body>');
    await chart.addScriptTag({ content: readFileSync(join(ROOT, 'node_modules/chart.js/dist/chart.umd.min.js'), 'utf8') });
    await chart.evaluate(
      (data) => {
        const { Chart } = window as unknown as { Chart: new (at: HTMLElement | null, config: object) => unknown };
        new Chart(document.getElementById('c'), {
          type: 'bar',
          data: {
            labels: data.map((one) => [one.what, `${one.ours}; ${one.against}`]),
            datasets: [
              { label: 'measured', data: data.map((one) => one.ratio), backgroundColor: data.map((one) => (one.holds ? '#3f7d6e' : '#a8442a')) },
              { label: 'target', data: data.map((one) => Number(/[\d.]+/.exec(one.target)?.[0] ?? 0)), backgroundColor: '#c9c1b3' },
            ],
          },
          options: {
            indexAxis: 'y',
            animation: false,
            maintainAspectRatio: false,
            scales: { x: { beginAtZero: true, title: { display: true, text: 'ratio (for the start and the claim, less is better; else more)' } }, y: { ticks: { font: { size: 13 } } } },
            plugins: { legend: { position: 'bottom' } },
          },
        });
      },
      shown.map(({ what, ours, against, ratio, target, holds }) => ({ what, ours, against, ratio, target, holds })),
    );
    await chart.screenshot({ path: join(ROOT, 'docs/screenshots/benchmarks.png') });
  } finally {
    await browser.close();
  }
}
