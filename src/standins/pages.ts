import { escapeHtml } from '../core/html.ts';
import type { ProviderDefinition } from '../core/provider/definition.ts';
import type { RegisteredClient } from './state.ts';
import { ACCOUNTS, STANDIN_PASSWORD } from './world.ts';

const STYLE = `body{margin:0;font:17px/1.5 Georgia,serif;background:#eef6f1;color:#10312a}header{background:#0f5c4a;color:#fff;padding:.8rem 1.6rem;font-size:1.2rem}
main{max-width:40rem;margin:2rem auto;background:#fff;border:1px solid #b9d6cb;padding:1.4rem 2rem}label{display:block;margin:.7rem 0}input[type=text],input[type=url],input[type=password]{width:100%;font:inherit;padding:.4rem;box-sizing:border-box}
button{font:inherit;padding:.45rem 1.4rem;background:#0f5c4a;color:#fff;border:0;margin-right:.6rem;cursor:pointer}button.plain{background:#fff;color:#0f5c4a;border:1px solid #0f5c4a}code{background:#eef6f1;padding:.15rem .4rem;word-break:break-all}
.good{border-left:.4rem solid #0f5c4a;padding-left:1rem}textarea{width:100%;font:inherit;box-sizing:border-box}select{font:inherit}a{color:#0f5c4a}h2{font-size:1.1rem}.small{font-size:.85rem;color:#456}.bad{border-left:.4rem solid #a8321e;padding-left:1rem}fieldset{border:1px solid #b9d6cb;margin:1rem 0}`;

export const page = (
  title: string,
  definition: ProviderDefinition,
  body: string,
): string => `<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>${escapeHtml(title)} \u2013 ${escapeHtml(definition.title)}</title><style>${STYLE}</style></head>
<body><header>${escapeHtml(definition.title)} <span class="small" style="color:#cfe6dd">stand-in on this machine</span></header><main><h1>${escapeHtml(title)}</h1>${body}</main></body></html>`;

/** What people see as the name of a client. */
const seenName = (client: RegisteredClient): string => client.consentPage.name || client.name;

export const signInPage = (
  definition: ProviderDefinition,
  client: RegisteredClient,
  request: string,
  { problem = '', action = '/sign-in', hint = '' }: { problem?: string; action?: string; hint?: string } = {},
): string =>
  page(
    'Sign in',
    definition,
    `<p>to go on to <strong>${escapeHtml(seenName(client))}</strong></p>${problem ? `<p class="bad">${escapeHtml(problem)}</p>` : ''}<form method="post" action="${action}"><input type="hidden" name="request" value="${escapeHtml(request)}">
<fieldset><legend>Account</legend>${ACCOUNTS.map((account, at) => `<label><input type="radio" name="account" value="${account.sub}"${(hint ? account.email === hint || account.sub === hint : at === 0) ? ' checked' : ''}> ${escapeHtml(account.email)} <span class="small">${escapeHtml(account.name)}, ${escapeHtml(account.is)}</span></label>`).join('')}</fieldset>
<label>Password <input type="password" name="password" autocomplete="off"></label><p class="small">Every made-up account has the password <code>${STANDIN_PASSWORD}</code></p><button>Sign in</button></form>`,
  );

export const consentPage = (
  definition: ProviderDefinition,
  client: RegisteredClient,
  request: string,
  { who, scopes, action = '/decide' }: { who: string; scopes: string[]; action?: string },
): string =>
  page(
    'Do you consent?',
    definition,
    `${client.reach === 'listed' ? `<p class="bad"><strong>This application is not published.</strong> Only listed accounts can consent, and its access ends soon.</p>` : ''}<p><strong>${escapeHtml(seenName(client))}</strong> would like to act for <strong>${escapeHtml(who)}</strong>:</p><form method="post" action="${action}"><input type="hidden" name="request" value="${escapeHtml(request)}">
<fieldset><legend>Untick what you do not want</legend>${scopes.map((scope) => `<label><input type="checkbox" name="scope" value="${escapeHtml(scope)}" checked> ${escapeHtml(definition.scopes.find((one) => one.name === scope)?.says ?? scope)} <span class="small">${escapeHtml(scope)}</span></label>`).join('')}</fieldset>
<button name="decision" value="agree">Agree</button><button class="plain" name="decision" value="refuse">Refuse</button></form>`,
  );

export const deviceCodePage = (definition: ProviderDefinition, userCode: string, action: string, problem = ''): string =>
  page(
    'Enter the code',
    definition,
    `<p>that another device or program shows you.</p>${problem ? `<p class="bad">${escapeHtml(problem)}</p>` : ''}<form method="post" action="${action}"><label>Code <input type="text" name="user_code" value="${escapeHtml(userCode)}" autocomplete="off" maxlength="20"></label><button>Go on</button></form>`,
  );

export const deviceDonePage = (definition: ProviderDefinition, agreed: boolean): string =>
  page(
    agreed ? 'Agreed' : 'Rejected',
    definition,
    `<p class="${agreed ? 'good' : 'bad'}">${agreed ? 'The device continues automatically.' : 'The device gets no access.'} You may close this page.</p>`,
  );

export const organizationPage = (
  definition: ProviderDefinition,
  client: RegisteredClient,
  { scopes, agreed, action }: { scopes: string[]; agreed: boolean; action: string },
): string =>
  page(
    'For the whole organization',
    definition,
    agreed
      ? `<p class="good">The organization has consented to what <strong>${escapeHtml(seenName(client))}</strong> asks for.</p>`
      : `<p><strong>${escapeHtml(seenName(client))}</strong> asks for rights over all of the organization:</p><ul>${scopes.map((scope) => `<li>${escapeHtml(definition.scopes.find((one) => one.name === scope)?.says ?? scope)} <span class="small">${escapeHtml(scope)}</span></li>`).join('')}</ul><form method="post" action="${escapeHtml(action)}"><p class="small">Only an administrator may agree; in this stand-in everybody is one.</p><button>Agree for the organization</button></form>`,
  );

export const stopPage = (definition: ProviderDefinition, says: string, detail: string): string =>
  page(
    'This request cannot go on',
    definition,
    `<p class="bad"><strong>${escapeHtml(says)}</strong><br>${escapeHtml(detail)}</p><p class="small">Nothing is sent back to the application, because it cannot be known whose address this is.</p>`,
  );
