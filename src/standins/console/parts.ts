import { createHash, X509Certificate } from 'node:crypto';
import { escapeHtml } from '../../core/html.ts';
import { redirectRemarks } from '../../core/oauth/redirect-rules.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import type { RegistrationPart } from '../../core/provider/registration.ts';
import type { RegisteredClient, StandinStore } from '../state.ts';
import { ACCOUNTS } from '../world.ts';
import { printCode } from './printed-code.ts';
import { addSecret } from './record.ts';

/** One part of the developer console: what its page shows, and what a press of one of its buttons does. */
export interface PartContext {
  definition: ProviderDefinition;
  client: RegisteredClient;
  store: StandinStore;
  now: number;
}
export type Fields = Record<string, string | string[] | undefined>;
/** `shows`: something to be seen once, after this press, as HTML. */
export interface Pressed {
  problem?: string;
  says?: string;
  shows?: string;
}
interface ConsolePart {
  /** In one line, for the list of parts. */
  sums(context: PartContext): string;
  form(context: PartContext): string;
  press(context: PartContext, fields: Fields): Pressed;
}

export const one = (value: string | string[] | undefined): string => (Array.isArray(value) ? (value[0] ?? '') : (value ?? '')).trim();
const many = (value: string | string[] | undefined): string[] => [value ?? []].flat();
const esc = escapeHtml;
const day = (instant: number): string => new Date(instant).toISOString().slice(0, 10);
const button = (action: string, text: string, more = ''): string => `<button name="action" value="${action}"${more}>${text}</button>`;
const box = (name: string, { value, text, ticked, type = 'checkbox' }: { value: string; text: string; ticked: boolean; type?: 'checkbox' | 'radio' }): string =>
  `<label><input type="${type}" name="${name}" value="${esc(value)}"${ticked ? ' checked' : ''}> ${text}</label>`;
const field = (name: string, label: string, value: string, help = ''): string =>
  `<label>${esc(label)} <input type="text" name="${name}" value="${esc(value)}" maxlength="1000"></label>${help ? `<p class="small">${esc(help)}</p>` : ''}`;
const rows = (items: string[], empty: string): string =>
  items.length === 0 ? `<p>${esc(empty)}</p>` : `<ul>${items.map((item) => `<li>${item}</li>`).join('')}</ul>`;

const CONSENT_FIELDS = [
  ['name', 'Name people will see'],
  ['home_page', 'Home page'],
  ['privacy_page', 'Privacy page'],
  ['terms_page', 'Terms page'],
  ['contact', 'Contact'],
] as const;

const type: ConsolePart = {
  sums: ({ client }) => client.type.replaceAll('_', ' '),
  form: ({ definition, client }) =>
    `<fieldset><legend>What kind of application is it?</legend>${definition.registration.client_types.map((kind) => box('type', { value: kind, text: esc(TYPE_SAYS[kind] ?? kind), ticked: client.type === kind, type: 'radio' })).join('')}</fieldset>${button('save', 'Save')}`,
  press: ({ definition, client }, fields) => {
    const kind = definition.registration.client_types.find((known) => known === one(fields.type));
    if (!kind) return { problem: 'Choose a type.' };
    client.type = kind;
    return { says: 'Saved.' };
  },
};
const TYPE_SAYS: Record<string, string> = {
  web: 'Web application (runs on a server)',
  desktop: 'Desktop application (runs on a person\u2019s machine)',
  public: 'Public application (keeps no secret)',
  service_account: 'Service account (no person)',
  printed_code: 'Script with a printed code',
};

const consentPage: ConsolePart = {
  sums: ({ client }) => (client.consentPage.name ? `shown as ${client.consentPage.name}` : 'not described'),
  form: ({ client }) =>
    `${CONSENT_FIELDS.map(([name, label]) => field(name, label, client.consentPage[name] ?? (name === 'name' ? client.name : ''))).join('')}${button('save', 'Save')}`,
  press: ({ client }, fields) => {
    for (const [name, label] of CONSENT_FIELDS)
      if (name.endsWith('_page') && one(fields[name]) !== '' && !URL.canParse(one(fields[name]))) return { problem: `${label}: a whole address is needed.` };
    if (!one(fields.name)) return { problem: 'A name is needed.' };
    client.consentPage = Object.fromEntries(CONSENT_FIELDS.map(([name]) => [name, one(fields[name])]));
    return { says: 'Saved.' };
  },
};

const apis: ConsolePart = {
  sums: ({ client }) => (client.apis.length === 0 ? 'none opened' : `${client.apis.length} opened`),
  form: ({ definition, client }) =>
    `<fieldset><legend>Opened to this client</legend>${definition.apis.map((api) => box('api', { value: api.name, text: esc(api.title), ticked: client.apis.includes(api.name) })).join('')}</fieldset>${button('save', 'Save')}`,
  press: ({ definition, client }, fields) => {
    client.apis = definition.apis.map((api) => api.name).filter((name) => many(fields.api).includes(name));
    return { says: 'Saved.' };
  },
};

const scopes: ConsolePart = {
  sums: ({ client }) => (client.scopes.length === 0 ? 'none chosen' : client.scopes.join(', ')),
  form: ({ definition, client }) =>
    `<fieldset><legend>What the client may ask for</legend>${definition.scopes.map((scope) => box('scope', { value: scope.name, text: `<code>${esc(scope.name)}</code> ${esc(scope.says)}${scope.organization ? ' <span class="small">(the whole organization needs admin consent)</span>' : ''}`, ticked: client.scopes.includes(scope.name) })).join('')}</fieldset>${button('save', 'Save')}`,
  press: ({ definition, client }, fields) => {
    client.scopes = definition.scopes.map((scope) => scope.name).filter((name) => many(fields.scope).includes(name));
    return { says: 'Saved.' };
  },
};

const domains: ConsolePart = {
  sums: ({ client }) => client.domains.join(', ') || 'none listed',
  form: ({ client }) =>
    `${field('domain', 'Domain', '', 'A host name, without https:// and without a path.')}${button('add', 'Add')}${rows(
      client.domains.map((name) => `<code>${esc(name)}</code> ${button(`remove:${esc(name)}`, 'Remove', ' class="plain"')}`),
      'None yet.',
    )}`,
  press: ({ client }, fields) => {
    const action = one(fields.action);
    if (action.startsWith('remove:')) {
      client.domains = client.domains.filter((name) => name !== action.slice(7));
      return { says: 'Removed.' };
    }
    const name = one(fields.domain).toLowerCase();
    if (!/^[a-z0-9.-]+$/.test(name)) return { problem: 'A host name is needed, without https:// and without a path.' };
    client.domains = [...new Set([...client.domains, name])];
    return { says: 'Added.' };
  },
};

/** Added first, saved separately: what is only added is discarded when one leaves the page for good. */
const redirectUris: ConsolePart = {
  sums: ({ client }) => `${client.redirectUris.length === 0 ? 'none saved' : client.redirectUris.join(' ')}${client.unsavedUris ? ' (not saved yet)' : ''}`,
  form: ({ client }) => {
    const shown = client.unsavedUris ?? client.redirectUris;
    return `${field('uri', 'Address to add', '', 'It is compared character by character.')}${button('add', 'Add', ' class="plain"')}${rows(
      shown.map((uri) => `<code class="uri">${esc(uri)}</code> ${button(`remove:${esc(uri)}`, 'Remove', ' class="plain"')}`),
      'None yet.',
    )}${client.unsavedUris ? '<p class="bad">Not saved yet.</p>' : ''}<p>${button('save', 'Save the list')}</p>`;
  },
  press: ({ definition, client }, fields) => {
    const action = one(fields.action);
    const shown = client.unsavedUris ?? client.redirectUris;
    if (action === 'save') {
      client.redirectUris = shown;
      client.unsavedUris = null;
      return { says: 'The list is saved.' };
    }
    if (action.startsWith('remove:')) {
      client.unsavedUris = shown.filter((uri) => uri !== action.slice(7));
      return {};
    }
    const uri = one(fields.uri);
    if (!URL.canParse(uri)) return { problem: 'A whole address is needed.' };
    const remark = redirectRemarks(uri, definition.registration.redirect_uri, client.domains)[0];
    if (remark) return { problem: `${remark.says} It was not added.` };
    client.unsavedUris = [...new Set([...shown, uri])];
    return {};
  },
};

const REACH_SAYS: Record<string, string> = { listed: 'Listed accounts only', organization: 'Everybody in the own organization', anyone: 'Anyone' };
const reach: ConsolePart = {
  sums: ({ client }) => `${REACH_SAYS[client.reach]?.toLowerCase()}${client.reach === 'listed' ? `: ${client.listed.join(', ') || 'none yet'}` : ''}`,
  form: ({ definition, client }) => {
    const kinds =
      definition.reach.length > 0
        ? definition.reach
        : [
            { reach: 'listed' as const, says: '' },
            { reach: 'anyone' as const, says: '' },
          ];
    return `<h2>Listed accounts</h2>${field('account', 'Account to list', '', 'The address with which that person signs in here.')}${button('list', 'List it', ' class="plain"')}${rows(
      client.listed.map((email) => `${esc(email)} ${button(`remove:${esc(email)}`, 'Remove', ' class="plain"')}`),
      'None yet.',
    )}<fieldset><legend>Who may sign in</legend>${kinds.map((kind) => box('reach', { value: kind.reach, text: `${esc(REACH_SAYS[kind.reach] ?? kind.reach)} <span class="small">${esc(kind.says)}</span>`, ticked: client.reach === kind.reach, type: 'radio' })).join('')}</fieldset><p>${button('save', 'Save')}</p>`;
  },
  press: ({ client }, fields) => {
    const action = one(fields.action);
    if (action.startsWith('remove:')) {
      client.listed = client.listed.filter((email) => email !== action.slice(7));
      return { says: 'Removed.' };
    }
    if (action === 'list') {
      const account = ACCOUNTS.find((known) => known.email === one(fields.account).toLowerCase());
      if (!account) return { problem: `Nobody here signs in as ${one(fields.account) || 'that'}.` };
      client.listed = [...new Set([...client.listed, account.email])];
      return { says: 'Listed.' };
    }
    const chosen = (['listed', 'organization', 'anyone'] as const).find((known) => known === one(fields.reach));
    if (!chosen) return { problem: 'Choose who may sign in.' };
    client.reach = chosen;
    return { says: 'Saved.' };
  },
};

const secrets: ConsolePart = {
  sums: ({ client, now }) => `${client.secrets.filter((secret) => secret.endsAt === null || secret.endsAt > now).length} in force`,
  form: ({ definition, client, now }) => {
    const again = definition.registration.secrets_shown === 'again';
    const most = definition.registration.secret_days_most;
    const lives = [90, 180, 365].filter((days) => most === undefined || days <= most);
    const list = rows(
      client.secrets.map(
        (secret) =>
          `No. ${secret.id} ${esc(secret.label)}, made ${day(secret.createdAt)}, ${secret.endsAt === null ? 'no end' : `${secret.endsAt <= now ? 'ended' : 'ends'} ${day(secret.endsAt)}`} ${again ? button(`show:${secret.id}`, 'Show', ' class="plain"') : ''} ${button(`withdraw:${secret.id}`, 'Withdraw', ' class="plain"')}`,
      ),
      'None yet.',
    );
    return `${field('label', 'Label', '')}<label for="days">Ends</label> <select id="days" name="days">${lives.map((days) => `<option value="${days}">after ${days} days</option>`).join('')}${most === undefined ? '<option value="" selected>never</option>' : ''}</select><p>${button('new', 'Make a secret')}</p>${list}`;
  },
  press: ({ definition, client, now }, fields) => {
    const [action = '', id] = one(fields.action).split(':');
    const found = client.secrets.find((secret) => secret.id === id);
    if (action === 'withdraw') {
      client.secrets = client.secrets.filter((secret) => secret !== found);
      return { says: 'Withdrawn.' };
    }
    if (action === 'show' && found && definition.registration.secrets_shown === 'again') return { shows: secretShown(found.value, found.endsAt, 'again') };
    const days = Number(one(fields.days)) || null;
    const made = addSecret(definition, client, { now, label: one(fields.label), days });
    return { shows: secretShown(made.value, made.endsAt, definition.registration.secrets_shown) };
  },
};
const secretShown = (value: string, endsAt: number | null, habit: 'once' | 'again'): string =>
  `<p>${habit === 'once' ? 'It is shown <strong>once</strong>. Copy it now.' : 'It can be shown again later.'}</p><p>Secret<br><code id="client-secret">${esc(value)}</code></p>${endsAt === null ? '' : `<p>Ends on <code id="secret-ends">${day(endsAt)}</code></p>`}`;

const certificates: ConsolePart = {
  sums: ({ client }) => (client.certificates.length === 0 ? 'none' : String(client.certificates.length)),
  form: ({ client }) =>
    `<label>Certificate (PEM, its public part) <textarea name="certificate" rows="6"></textarea></label>${button('upload', 'Upload')}${rows(
      client.certificates.map((pem, at) => {
        const certificate = new X509Certificate(pem);
        return `${esc(certificate.subject)}, until ${day(Date.parse(certificate.validTo))}<br>Thumbprint <code class="thumbprint">${createHash('sha1').update(certificate.raw).digest('hex').toUpperCase()}</code> ${button(`remove:${at}`, 'Remove', ' class="plain"')}`;
      }),
      'None yet.',
    )}`,
  press: ({ client, now }, fields) => {
    const action = one(fields.action);
    if (action.startsWith('remove:')) {
      client.certificates = client.certificates.filter((_pem, at) => at !== Number(action.slice(7)));
      return { says: 'Removed.' };
    }
    const pem = one(fields.certificate);
    if (/PRIVATE KEY/.test(pem))
      return { problem: 'This is a private key. Only the certificate belongs here; make a new pair, this one is not private any more.' };
    const read = readCertificate(pem);
    if (!read) return { problem: 'The certificate cannot be read.' };
    if (Date.parse(read.validTo) <= now) return { problem: 'The certificate has expired.' };
    client.certificates.push(pem);
    return { says: 'Uploaded.' };
  },
};
export function readCertificate(pem: string): X509Certificate | null {
  try {
    return new X509Certificate(pem);
  } catch {
    return null;
  }
}

const serviceUser: ConsolePart = {
  sums: ({ client }) => (client.serviceUser ? `${client.serviceUser.name}, ${client.serviceUser.role}` : 'none'),
  form: ({ definition, client }) =>
    `${field('name', 'Name of the service user', client.serviceUser?.name ?? '')}<label for="role">Role</label><select id="role" name="role"><option value="">choose</option>${definition.registration.roles
      .toSorted()
      .map((role) => `<option${client.serviceUser?.role === role ? ' selected' : ''}>${esc(role)}</option>`)
      .join('')}</select><p>${button('save', 'Save')}</p>`,
  press: ({ definition, client }, fields) => {
    const [name, role] = [one(fields.name), one(fields.role)];
    if (!name || !definition.registration.roles.includes(role)) return { problem: 'A name and a role are needed.' };
    client.serviceUser = { name, role };
    return { says: 'Saved.' };
  },
};

const APPROVAL_SAYS: Record<string, string> = {
  not_requested: 'Not asked yet.',
  requested: 'Your request is waiting. We look at requests on weekdays.',
  info_requested: 'We have a question.',
  approved: 'Approved.',
  rejected: 'Refused.',
};
const accessRequest: ConsolePart = {
  sums: ({ client }) => APPROVAL_SAYS[client.approval.state] ?? '',
  form: ({ definition, client }) => {
    const { state, answers, says } = client.approval;
    const head = `<p><strong id="approval">${esc(APPROVAL_SAYS[state] ?? '')}</strong> ${esc(says)}</p>`;
    if (state === 'approved' || state === 'requested') return head;
    if (state === 'info_requested')
      return `${head}<label>Your answer <textarea name="answer" rows="4"></textarea></label>${button('answer', 'Send the answer')}`;
    return `${head}${questionsOf(definition)
      .map((question, at) => `<label>${esc(question)} <textarea name="q${at}" rows="2">${esc(answers[question] ?? '')}</textarea></label>`)
      .join('')}${button('send', 'Send the request')}`;
  },
  press: ({ definition, client, now }, fields) => {
    const questions = questionsOf(definition);
    const given =
      one(fields.action) === 'answer'
        ? { ...client.approval.answers, answer: one(fields.answer) }
        : Object.fromEntries(questions.map((question, at) => [question, one(fields[`q${at}`])]));
    const empty = Object.entries(given).find(([, value]) => value === '');
    if (empty) return { problem: `Please answer: ${empty[0]}` };
    client.approval = { state: 'requested', answers: given, says: '', changedAt: now };
    return { says: 'Sent.' };
  },
};
const questionsOf = (definition: ProviderDefinition): string[] => {
  const asked = definition.registration.form.map((question) => question.question);
  return asked.length > 0 ? asked : ['What will you use it for?'];
};

const printedCode: ConsolePart = {
  sums: () => 'a code for your own account',
  form: ({ definition }) =>
    `<p>A code lets a script act for you. It can be used once, within ${Math.round((definition.registration.printed_code_seconds ?? 240) / 60)} minutes.</p>${button('print', 'Print a code')}`,
  press: (context) => {
    const printed = printCode(context, ACCOUNTS[0]?.sub ?? '');
    return {
      shows: `<p>Code<br><code id="printed-code">${esc(printed.code)}</code></p><p>Good until ${new Date(printed.endsAt).toISOString().slice(11, 19)} UTC, once.</p>`,
    };
  },
};

/** What clients are gathered in; it is made before them. */
const project: ConsolePart = { sums: ({ client }) => client.project, form: ({ client }) => `<p>${esc(client.project)}</p>`, press: () => ({}) };

export const PARTS: Record<RegistrationPart, ConsolePart> = {
  project,
  type,
  consent_page: consentPage,
  apis,
  scopes,
  domains,
  redirect_uris: redirectUris,
  reach,
  secrets,
  certificates,
  service_user: serviceUser,
  access_request: accessRequest,
  printed_code: printedCode,
};
