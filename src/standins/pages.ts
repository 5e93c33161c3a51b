import type { ProviderDefinition } from '../core/provider/definition.ts';
import type { RegisteredClient } from './state.ts';
import { ACCOUNTS, STANDIN_PASSWORD } from './world.ts';

/** The stand-in's own pages: plain, and not at all like the console, so that nobody mistakes one for the other. */
const escapeHtml = (text: string): string => text.replace(/[&<>"']/g, (c) => `&#${c.charCodeAt(0)};`);

const STYLE = `body{margin:0;font:17px/1.5 Georgia,serif;background:#eef6f1;color:#10312a}header{background:#0f5c4a;color:#fff;padding:.8rem 1.6rem;font-size:1.2rem}
main{max-width:40rem;margin:2rem auto;background:#fff;border:1px solid #b9d6cb;padding:1.4rem 2rem}label{display:block;margin:.7rem 0}input[type=text],input[type=url],input[type=password]{width:100%;font:inherit;padding:.4rem;box-sizing:border-box}
button{font:inherit;padding:.45rem 1.4rem;background:#0f5c4a;color:#fff;border:0;margin-right:.6rem;cursor:pointer}button.plain{background:#fff;color:#0f5c4a;border:1px solid #0f5c4a}code{background:#eef6f1;padding:.15rem .4rem;word-break:break-all}
.small{font-size:.85rem;color:#456}.bad{border-left:.4rem solid #a8321e;padding-left:1rem}fieldset{border:1px solid #b9d6cb;margin:1rem 0}`;

const page = (
  title: string,
  definition: ProviderDefinition,
  body: string,
): string => `<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>${escapeHtml(title)} \u2013 ${escapeHtml(definition.title)}</title><style>${STYLE}</style></head>
<body><header>${escapeHtml(definition.title)} <span class="small" style="color:#cfe6dd">stand-in on this machine</span></header><main><h1>${escapeHtml(title)}</h1>${body}</main></body></html>`;

const takesCertificates = (definition: ProviderDefinition): boolean => definition.server.token_endpoint_auth_methods_supported.includes('private_key_jwt');
const pathOf = (address: string | undefined): string => new URL(address ?? 'http://localhost/clients').pathname;

export const registrationPage = (definition: ProviderDefinition, clients: RegisteredClient[], problem = ''): string =>
  page(
    'Your clients',
    definition,
    `${problem ? `<p class="bad">${escapeHtml(problem)}</p>` : ''}<form method="post" action="${pathOf(definition.registration.page)}"><fieldset><legend>Register a client</legend>
<label>Name people will see <input type="text" name="name" required maxlength="80"></label>
<label>Redirect URI <input type="url" name="redirect_uri" required maxlength="500"></label>
<p class="small">It is compared character by character.</p>${takesCertificates(definition) ? '<label>Certificate (PEM, its public part; may stay empty) <textarea name="certificate" rows="4" style="width:100%"></textarea></label>' : ''}<button>Save</button></fieldset></form>
<h2>Registered</h2>${clients.length === 0 ? '<p>None yet.</p>' : `<ul>${clients.map((client) => `<li><strong>${escapeHtml(client.name)}</strong><br>Id <code>${escapeHtml(client.id)}</code><br>Redirect URI <code>${client.redirectUris.map(escapeHtml).join('</code> <code>')}</code></li>`).join('')}</ul>`}`,
  );

export const registeredPage = (definition: ProviderDefinition, client: RegisteredClient): string =>
  page(
    'Client registered',
    definition,
    `<p>The secret is shown <strong>once</strong>. Copy both now.</p><p>Client id<br><code id="client-id">${escapeHtml(client.id)}</code></p><p>Client secret<br><code id="client-secret">${escapeHtml(client.secret)}</code></p>
<p>Redirect URI<br><code>${client.redirectUris.map(escapeHtml).join(' ')}</code></p><p><a href="${pathOf(definition.registration.page)}">Back to your clients</a></p>`,
  );

export const signInPage = (definition: ProviderDefinition, client: RegisteredClient, request: string, problem = ''): string =>
  page(
    'Sign in',
    definition,
    `<p>to go on to <strong>${escapeHtml(client.name)}</strong></p>${problem ? `<p class="bad">${escapeHtml(problem)}</p>` : ''}<form method="post" action="/sign-in"><input type="hidden" name="request" value="${escapeHtml(request)}">
<fieldset><legend>Account</legend>${ACCOUNTS.map((account, at) => `<label><input type="radio" name="account" value="${account.sub}"${at === 0 ? ' checked' : ''}> ${escapeHtml(account.email)} <span class="small">${escapeHtml(account.name)}, ${escapeHtml(account.is)}</span></label>`).join('')}</fieldset>
<label>Password <input type="password" name="password" autocomplete="off"></label><p class="small">Every made-up account has the password <code>${STANDIN_PASSWORD}</code></p><button>Sign in</button></form>`,
  );

export const consentPage = (definition: ProviderDefinition, client: RegisteredClient, request: string, who: string, scopes: string[]): string =>
  page(
    'Do you agree?',
    definition,
    `<p><strong>${escapeHtml(client.name)}</strong> would like to act for <strong>${escapeHtml(who)}</strong>:</p><form method="post" action="/decide"><input type="hidden" name="request" value="${escapeHtml(request)}">
<fieldset><legend>Untick what you do not want</legend>${scopes.map((scope) => `<label><input type="checkbox" name="scope" value="${escapeHtml(scope)}" checked> ${escapeHtml(definition.scopes.find((one) => one.name === scope)?.says ?? scope)} <span class="small">${escapeHtml(scope)}</span></label>`).join('')}</fieldset>
<button name="decision" value="agree">Agree</button><button class="plain" name="decision" value="refuse">Refuse</button></form>`,
  );

export const stopPage = (definition: ProviderDefinition, says: string, detail: string): string =>
  page(
    'This request cannot go on',
    definition,
    `<p class="bad"><strong>${escapeHtml(says)}</strong><br>${escapeHtml(detail)}</p><p class="small">Nothing is sent back to the application, because it cannot be known whose address this is.</p>`,
  );
