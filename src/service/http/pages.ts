import type { Fault } from '../../core/fault.ts';
import { FAULTS } from '../../core/fault-table.ts';
import { escapeHtml } from '../../core/html.ts';
import type { ConsentOffer } from '../consent/index.ts';

/** A plain page for a browser that cannot go on with a consent. No script, no style of others, nothing of the provider unescaped. */
export const errorPage = (fault: Fault, requestId: string): string => `<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>Rusty Kettle: it stops here</title><link rel="stylesheet" href="/page.css"></head>
<body><main><h1>It stops here</h1><p><strong>${escapeHtml(FAULTS[fault.code].says)}</strong></p>
${fault.detail ? `<p>${escapeHtml(fault.detail)}</p>` : ''}<p>${escapeHtml(fault.remedy)}</p>
<p><a href="/">To the console</a></p><p class="small">Request ${escapeHtml(requestId)}</p></main></body></html>`;

const list = (items: string[]): string => (items.length === 0 ? '' : `<ul>${items.map((item) => `<li>${item}</li>`).join('')}</ul>`);

/** The page behind a one-time link: what, for whom, which scopes. Its button spends the link. */
export const offerPage = (one: ConsentOffer): string => `<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><meta name="robots" content="noindex">
<title>Rusty Kettle: ${escapeHtml(one.connection)}</title><link rel="stylesheet" href="/page.css"></head>
<body><main><h1>Connect ${escapeHtml(one.provider)}</h1>
<p>${escapeHtml(one.openedBy)} asks you to let the connection <strong>${escapeHtml(one.connection)}</strong> access ${escapeHtml(one.provider)} on your behalf.${one.account ? ` Sign in at ${escapeHtml(one.provider)} as <strong>${escapeHtml(one.account)}</strong>.` : ''}</p>
${one.scopes.length > 0 ? '<p>Requested scopes:</p>' : ''}${list(one.scopes.map(({ name, says }) => `${says ? `${escapeHtml(says)} ` : ''}<code>${escapeHtml(name)}</code>`))}
${one.warnings.length > 0 ? '<p>Notes:</p>' : ''}${list(one.warnings.map(escapeHtml))}
<form method="post"><button type="submit">Continue to ${escapeHtml(one.provider)}</button></form>
<p class="small">This link works once and expires on ${escapeHtml(new Date(one.expiresAt).toISOString().slice(0, 16).replace('T', ' '))} UTC. If you did not expect it, close this page. Nothing has changed.</p></main></body></html>`;

/** After a sign-in at the identity provider: it goes on automatically, within our own site. */
export const signedInPage = (): string => `<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><meta http-equiv="refresh" content="0; url=/">
<title>Rusty Kettle: signed in</title><link rel="stylesheet" href="/page.css"></head>
<body><main><h1>Signed in</h1><p><a href="/">To the console</a></p></main></body></html>`;
