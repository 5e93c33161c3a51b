import { readFileSync, writeFileSync } from 'node:fs';
import { cpus, totalmem } from 'node:os';
import { join } from 'node:path';
import { openBrowser } from '../testing/chromium.ts';
import type { Measured } from './rig.ts';

const ROOT = new URL('..', import.meta.url).pathname;
const HISTORY = join(ROOT, 'bench/history.json');
const MAX_BAR = 2.5;
const WIDTH = { width: 1100, height: 640 };

/** What earlier versions reached, by the key of each figure: its ratio where it has one, else its text. */
interface Version {
  version: string;
  on: string;
  figures: Record<string, string>;
}

/** Writes docs/BENCHMARKS.md with its picture, and keeps the figures of this version in the history. */
export async function writeReport(measured: Measured[]): Promise<void> {
  const { version } = JSON.parse(readFileSync(join(ROOT, 'package.json'), 'utf8')) as { version: string };
  const current: Version = {
    version: `${version}, next`,
    on: new Date().toISOString().slice(0, 10),
    figures: Object.fromEntries(measured.map((one) => [one.key, one.ratio ? one.ratio.ratio.toFixed(2) : one.ours])),
  };
  const earlier = (JSON.parse(readFileSync(HISTORY, 'utf8')) as Version[]).filter((one) => one.version !== current.version);
  writeFileSync(HISTORY, `${JSON.stringify([...earlier, current], null, 1)}\n`);
  writeFileSync(join(ROOT, 'docs/BENCHMARKS.md'), page(measured, [...earlier, current]));
  await draw(measured);
}

function page(rows: Measured[], history: Version[]): string {
  const processors = cpus();
  const machine = `${processors.length} cores (${processors[0]?.model.trim() || 'unknown'}), ${Math.round(totalmem() / 2 ** 30)} GiB, Node.js ${process.version}, MariaDB on the same machine`;
  const ratio = ({ ratio: one }: Measured) => (one ? `${one.ratio.toFixed(2)} (${one.low.toFixed(2)} to ${one.high.toFixed(2)})` : '\u2013');
  const table = rows.map((one) => `| ${one.what} | ${one.ours} | ${one.against} | ${ratio(one)} | ${one.target} | ${one.holds ? 'yes' : '**no**'} |`);
  const versions = history.map((one) => `${one.version} (${one.on})`);
  const past = rows.map((row) => `| ${row.what} | ${history.map((one) => one.figures[row.key] ?? '\u2013').join(' | ')} |`);
  return `<!-- Written by \`npm run bench\`; do not edit by hand. -->
# Benchmarks

Measured by \`npm run bench\` on ${new Date().toISOString().slice(0, 10)}: ${machine}. Load and service share the machine.

| figure | here | compared with | ratio (quartiles) | target | holds |
|---|---|---|---|---|---|
${table.join('\n')}

![Ratios and their targets](screenshots/benchmarks.png)

## How it is measured

Both sides of a ratio run in slices of about a second that alternate. The ratio is the median of the slice ratios, with the first and third quartile.

| figure | compared with |
|---|---|
| tokens issued | a bare \`node:http\` handler that reads the same POST and answers the same bytes |
| renewals | a bare loop of the same POST and one durable UPDATE by the driver, at the same concurrency (64) |
| p99 of issuing | the bare handler at the same rate; the median of seven slices |
| memory | the same process idle; each the lowest of half a minute |
| two processes | one, each under \`wrk\`, which takes part of the two cores itself |
| relayed calls | a proxy of \`node:http\` and \`undici\` that checks nothing and sends a fixed token |
| claims | the same claim with ten thousand connections behind it |
| views | the same view with a hundred connections |
| beside an earlier release | the same load on that release, each on a database of its own |

## Earlier versions

Ratios, or figures where there is no ratio. Up to 0.6.0 each ratio is the middle one of three rounds of 8 s, minutes apart.

| figure | ${versions.join(' | ')} |
|---|${versions.map(() => '---|').join('')}
${past.join('\n')}
`;
}

/** The ratios as bars with their quartiles, each with a mark at its target. */
async function draw(rows: Measured[]): Promise<void> {
  const bars = rows.flatMap((one) => (one.ratio ? [{ ...one, ratio: one.ratio, wanted: Number(/[\d.]+/.exec(one.target)?.[0] ?? 0) }] : []));
  // One that misses by far would make all others too short to read: its bar ends at the edge, and its number stands beside it.
  const most = Math.min(MAX_BAR, Math.max(...bars.map((one) => Math.max(one.ratio.high, one.wanted))) * 1.05);
  const at = (value: number) => `${Math.min(1, value / most) * 100}%`;
  const lines = bars.map(
    ({ what, ours, against, ratio, wanted, holds }) =>
      `<div class="name">${what}<small>${ours}; ${against}</small></div><div class="track"><i class="bar ${holds ? 'good' : 'bad'}" style="width:${at(ratio.ratio)}"></i><i class="spread" style="left:${at(ratio.low)};width:calc(${at(ratio.high)} - ${at(ratio.low)})"></i><i class="target" style="left:${at(wanted)}"></i></div><b>${ratio.ratio.toFixed(2)}</b>`,
  );
  const style =
    'body{margin:20px;background:#fff;color:#22201d;font:14px sans-serif}main{display:grid;grid-template-columns:26rem 1fr 3rem;gap:9px 12px;align-items:center}small{display:block;color:#6b645a}.track{position:relative;height:22px;background:#f3efe8}i{position:absolute;display:block}.bar{top:0;left:0;height:22px}.good{background:#3f7d6e}.bad{background:#a8442a}.spread{top:9px;height:4px;background:#22201d}.target{top:-3px;width:2px;height:28px;background:#22201d}p{color:#6b645a}';
  const browser = await openBrowser();
  try {
    const chart = await browser.context.newPage();
    await chart.setViewportSize(WIDTH);
    await chart.setContent(
      `<style>${style}</style><main>${lines.join('')}</main><p>Bar: median ratio. Thin line: quartiles. Upright line: target. For starts, claims and views less is better; else more.</p>`,
    );
    await chart.screenshot({ path: join(ROOT, 'docs/screenshots/benchmarks.png'), fullPage: true });
  } finally {
    await browser.close();
  }
}
