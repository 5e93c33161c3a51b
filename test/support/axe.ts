import { readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import type { AxeResults } from 'axe-core';
import type { Page } from 'playwright-core';

const AXE = readFileSync(createRequire(import.meta.url).resolve('axe-core/axe.min.js'), 'utf8');

/** What the checker finds against WCAG 2.1 A and AA, in words; and by how many pixels the page is wider than its window. */
export async function violations(page: Page, where: string): Promise<string[]> {
  await page.evaluate((code) => {
    if (!('axe' in window)) new Function(code)();
  }, AXE);
  const { violations: found } = await page.evaluate(() => {
    const { axe } = window as unknown as { axe: { run(context: Document, options: object): Promise<AxeResults> } };
    return axe.run(document, { runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa'], resultTypes: ['violations'] });
  });
  const wider = await page.evaluate(() => document.documentElement.scrollWidth - document.documentElement.clientWidth);
  return [
    ...found.map((one) => `${where}: ${one.id}, ${one.nodes.map((node) => node.target.join(' ')).join(' | ')}`),
    ...(wider > 0 ? [`${where}: ${wider} pixels too wide`] : []),
  ];
}
