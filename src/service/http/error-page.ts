import { FAULTS, type Fault } from '../../core/fault.ts';

const escapeHtml = (text: string): string => text.replace(/[&<>"']/g, (c) => `&#${c.charCodeAt(0)};`);

/** A plain page for a browser that cannot go on with a consent. No script, no style of others, nothing of the provider unescaped. */
export const errorPage = (fault: Fault, requestId: string): string => `<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>Rusty Kettle: it stops here</title><link rel="stylesheet" href="/page.css"></head>
<body><main><h1>It stops here</h1><p><strong>${escapeHtml(FAULTS[fault.code].says)}</strong></p>
${fault.detail ? `<p>${escapeHtml(fault.detail)}</p>` : ''}<p>${escapeHtml(fault.remedy)}</p>
<p><a href="/">To the console</a></p><p class="small">Request ${escapeHtml(requestId)}</p></main></body></html>`;
