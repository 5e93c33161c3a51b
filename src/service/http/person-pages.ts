import type { Fault } from '../../core/fault.ts';
import { FAULTS } from '../../core/fault-table.ts';
import { escapeHtml } from '../../core/html.ts';
import type { PersonPage } from '../people/index.ts';

/**
 * Pages for people who have no login here: phone first, no script, both themes by the browser's setting. Everything that an application,
 * an operator or a provider wrote is escaped, and nothing of the installation is shown but this person's connection.
 */
const page = (title: string, body: string): string => `<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><meta name="robots" content="noindex">
<title>${escapeHtml(title)}</title><link rel="stylesheet" href="/page.css"></head>
<body class="person"><main>${body}</main></body></html>`;

const e = escapeHtml;
const date = (at: number): string => new Date(at).toLocaleDateString('en-US', { day: 'numeric', month: 'long', year: 'numeric', timeZone: 'UTC' });
const list = (items: readonly string[]): string => `<ul>${items.map((item) => `<li>${item}</li>`).join('')}</ul>`;
const scopeList = (scopes: PersonPage['scopes']): string =>
  list(scopes.map(({ name, says }) => (says ? `${e(says)} <code>${e(name)}</code>` : `<code>${e(name)}</code>`)));
const action = (path: string, label: string, kind = '', name = ''): string =>
  `<form method="post" action="${e(path)}"><button${name ? ` name="way" value="${name}"` : ''} type="submit"${kind ? ` class="${kind}"` : ''}>${e(label)}</button></form>`;
const link = (path: string, label: string, kind = 'button'): string => `<a class="${kind}" href="${e(path)}">${e(label)}</a>`;
const meant = (x: PersonPage): string => (x.person ? `<p class="for">For <strong>${e(x.person)}</strong> \u2013 not you? Close this page.</p>` : '');
const takeBack = (x: PersonPage): string =>
  `<p class="small">You can take this back at any time: here with your private link, or in your account settings at ${e(x.provider)}.</p>`;

const starting = (x: PersonPage, base: string): string => {
  const usual = action(`${base}/start`, x.ways[0] === 'device' ? 'Get a code' : `Continue to ${x.provider}`);
  return x.ways.length > 1 ? `${usual}${action(`${base}/start`, 'Use a code on another device', 'quiet', 'device')}` : usual;
};
/** What is asked, by whom, for what, and what follows. */
const askPage = (x: PersonPage, base: string): string =>
  page(
    `Connect ${x.provider}`,
    `<p class="small">${e(x.application)}</p><h1>Connect your ${e(x.provider)} account</h1>${meant(x)}
${x.purpose ? `<p>${e(x.application)} asks: ${e(x.purpose)}</p>` : ''}
<h2>What it will be able to do</h2>${scopeList(x.scopes)}
${x.expectedAccount ? `<p>Sign in at ${e(x.provider)} as <strong>${e(x.expectedAccount)}</strong>. Another account is not accepted.</p>` : ''}
${x.notes.length > 0 ? `<h2>What you may see</h2>${list(x.notes.map(e))}` : ''}
<h2>What happens next</h2><ol><li>You go to ${e(x.provider)} and sign in. Your password stays with ${e(x.provider)}.</li><li>You choose what to allow.</li><li>You come back${x.returnHost ? ` to ${e(x.application)}` : ' here'}.</li></ol>
${x.state === 'open' ? starting(x, base) : `<p class="warn" role="status">${ENDED[x.state]}</p>`}
${takeBack(x)}<p class="small">The link expires on ${date(x.expiresAt)}.</p>`,
  );

const ENDED = {
  expired: 'This link has expired. Ask for a new one.',
  revoked: 'This link was withdrawn. Ask whoever sent it.',
  used: 'This link was used already. Use your private link, or ask for a new one.',
  open: '',
} as const;

/** What is connected, and how to change that. */
const ownPage = (x: PersonPage, base: string): string => {
  const { connected } = x;
  if (!connected) return askPage(x, base);
  return page(
    `Your ${x.provider} account`,
    `<p class="small">${e(x.application)}</p><h1>Your ${e(x.provider)} account</h1>${meant(x)}
${connected.actionNeeded ? `<p class="warn" role="status">The connection no longer works. Reconnect to use it again.</p>` : `<p class="good" role="status">Connected.</p>`}
<dl><dt>Account</dt><dd>${e(connected.account ?? 'not stated by the provider')}</dd>
${connected.since === null ? '' : `<dt>Since</dt><dd>${date(connected.since)}</dd>`}<dt>Used by</dt><dd>${e(x.application)}</dd></dl>
<h2>What it can do</h2>${connected.scopes.length > 0 ? scopeList(connected.scopes) : '<p>Nothing beyond knowing the account.</p>'}
${connected.missing.length > 0 ? `<h2>What you did not allow</h2>${scopeList(connected.missing)}` : ''}
<div class="actions">${x.returnHost && x.kind === 'invitation' ? link(`${base}/back`, `Back to ${x.application}`) : ''}
${x.state === 'open' ? action(`${base}/start`, connected.missing.length > 0 ? 'Allow more' : 'Reconnect', 'quiet') : ''}
${x.kind === 'invitation' ? action(`${base}/link`, 'Show my private link', 'quiet') : ''}
${link(`${base}/disconnect`, 'Disconnect', 'button danger')}</div>`,
  );
};

const RESULTS: Record<'denied' | 'other_account' | 'expired' | 'failed', (x: PersonPage) => string> = {
  denied: (x) => `You did not allow access. Nothing is connected, and ${e(x.application)} was given nothing.`,
  other_account: (x) =>
    `You signed in as <strong>${e(x.result?.account?.label ?? 'another account')}</strong>${x.expectedAccount ? `, and <strong>${e(x.expectedAccount)}</strong> was expected` : ', which is not the account of last time'}. It was not connected, and the access was deleted here. ${x.revokes ? `${e(x.provider)} was asked to revoke it.` : `It was not revoked at ${e(x.provider)}, because that could end your other connections: remove it there in the settings of your account.`} Sign out at ${e(x.provider)}, then try again.`,
  expired: () => 'Nothing came back in time.',
  failed: (x) => `It did not work: ${e(x.result?.says ?? 'the provider did not answer as expected')}`,
};

/** The last consent did not connect: why, and how to go on. */
const failedPage = (x: PersonPage, base: string, kind: keyof typeof RESULTS): string =>
  page(
    `Not connected: ${x.provider}`,
    `<p class="small">${e(x.application)}</p><h1>Not connected</h1>${meant(x)}<p class="warn" role="status">${RESULTS[kind](x)}</p>
${x.connected ? `<p>What was connected before stays as it was: ${e(x.connected.account ?? x.provider)}.</p>` : ''}
<div class="actions">${x.state === 'open' ? action(`${base}/start`, 'Try again') : `<p>${ENDED[x.state]}</p>`}${x.returnHost ? link(`${base}/back`, `Back to ${x.application}`, 'button quiet') : ''}</div>`,
  );

/** The page behind an invitation or a private link. */
export function personPage(x: PersonPage, base: string): string {
  const kind = x.result?.kind;
  if (kind === 'denied' || kind === 'other_account' || kind === 'failed' || kind === 'expired') return failedPage(x, base, kind);
  return x.connected ? ownPage(x, base) : askPage(x, base);
}

/**
 * While the person enters a code on another device, or the tokens are on their way. A page that reloads automatically takes the reader out of
 * it (WCAG 2.1, 2.2.1): this one has a button, and the service waits for the outcome behind it.
 */
export function waitPage(x: PersonPage, base: string): string {
  if (!x.device)
    return page(
      'One moment',
      `<h1>One moment</h1><p role="status">${e(x.provider)} has answered. Your connection is being verified.</p>${link(`${base}/wait`, 'Continue')}`,
    );
  const { userCode, page: where, pageWithCode } = x.device;
  return page(
    `Enter the code at ${x.provider}`,
    `<p class="small">${e(x.application)}</p><h1>Enter this code at ${e(x.provider)}</h1><p class="code">${e(userCode)}</p>
<p>Open ${e(where)} on any device and enter the code, or ${link(pageWithCode ?? where, 'open it here', '')}. Then come back.</p>
${link(`${base}/wait?entered=yes`, 'I have entered it')}`,
  );
}

export const disconnectPage = (x: PersonPage, base: string): string =>
  page(
    `Disconnect ${x.provider}`,
    `<p class="small">${e(x.application)}</p><h1>Disconnect ${e(x.provider)}?</h1>
<p>${e(x.application)} can no longer use ${e(x.connected?.account ?? 'your account')}. What it has collected before stays with it. ${x.canRevoke ? `The access is revoked at ${e(x.provider)}, too.` : `${e(x.provider)} offers no way to revoke it from here: remove it there as well, in the settings of your account.`}</p>
<div class="actions">${action(`${base}/disconnect`, 'Disconnect', 'danger')}${link(base, 'Keep it', 'button quiet')}</div>`,
  );

export const ownLinkPage = (base: string, url: string): string =>
  page(
    'Your private link',
    `<h1>Your private link</h1><p>Keep it: with it you see what is connected, reconnect, or disconnect. Whoever has it can do the same.</p>
<p class="code"><a href="${e(url)}">${e(url)}</a></p><p>${link(base, 'Back', 'button quiet')}</p>`,
  );

/** Where it stops, in words for a person: no way into the console. */
export const personErrorPage = (fault: Fault): string =>
  page(
    'It stops here',
    `<h1>It stops here</h1><p class="warn" role="alert">${e(FAULTS[fault.code].says)}</p>${fault.detail ? `<p>${e(fault.detail)}</p>` : ''}<p>${e(fault.remedy)}</p>`,
  );
