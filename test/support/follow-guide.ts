import type { Locator, Page } from 'playwright-core';

/**
 * Follows a step of a guide as the page shows it, by its words alone: whatever stands in quotation marks must be found on the provider's
 * page under that very name. A guide that is wrong fails here.
 */
export interface Followed {
  /** What was copied at the provider, by the name that the step gives it. */
  copied: Record<string, string>;
  presses: number;
}

const MOVES = [
  ['put', /[Pp]ut (?:“([^”]+)”|(the public part[^“]*?)|(\S+)) into “([^”]+)”/],
  ['tick', /[Tt]ick (?:“([^”]+)”|([^,“]+)), then/],
  ['select', /[Ss]elect “([^”]+)” in “([^”]+)”/],
  ['answer', /[Aa]nswer “([^”]+)” with your own number/],
  ['choose', /[Cc]hoose “([^”]+)”/],
  ['copy', /[Cc](?:opy|ompare) “([^”]+)”/],
] as const;

/** `given`: what a step may ask for that is not written in it, such as the public part of a certificate. */
export async function followStep(there: Page, text: string, given: { publicPart?: string } = {}): Promise<Followed> {
  const followed: Followed = { copied: {}, presses: 0 };
  for (let rest = text; ; ) {
    const next = MOVES.map(([move, pattern]) => ({ move, found: pattern.exec(rest) }))
      .filter((one): one is { move: (typeof MOVES)[number][0]; found: RegExpExecArray } => one.found !== null)
      .sort((a, b) => a.found.index - b.found.index)[0];
    if (!next) return followed;
    await make(there, next.move, next.found, given, followed);
    rest = rest.slice(next.found.index + next.found[0].length - (next.move === 'tick' ? ', then'.length : 0));
  }
}

async function make(there: Page, move: (typeof MOVES)[number][0], found: RegExpExecArray, given: { publicPart?: string }, followed: Followed): Promise<void> {
  const field = (label: string): Locator => there.getByLabel(label, { exact: true });
  switch (move) {
    case 'put':
      return field(found[4] ?? '').fill(found[2] ? (given.publicPart ?? '') : (found[1] ?? found[3] ?? ''));
    case 'answer':
      return field(found[1] ?? '').fill('48');
    case 'select':
      return void (await field(found[2] ?? '').selectOption({ label: found[1] ?? '' }));
    case 'tick':
      for (const name of found[1] ? [found[1]] : (found[2] ?? '').trim().split(/\s+/))
        await there
          .locator('label', { hasText: name })
          .filter({ has: there.locator('input[type=checkbox], input[type=radio]') })
          .first()
          .locator('input')
          .check();
      return;
    case 'choose': {
      const name = found[1] ?? '';
      const link = there.getByRole('link', { name, exact: true });
      followed.presses += 1;
      await ((await link.count()) > 0 ? link : there.getByRole('button', { name, exact: true })).first().click();
      await there.waitForLoadState();
      if ((await there.getByRole('alert').count()) > 0) throw new Error(`at the provider: ${await there.getByRole('alert').first().innerText()}`);
      return;
    }
    case 'copy': {
      const name = found[1] ?? '';
      followed.copied[name] = (await there.locator('p, li').filter({ hasText: name }).locator('code').first().innerText()).trim();
      return;
    }
    default:
      move satisfies never;
  }
}
