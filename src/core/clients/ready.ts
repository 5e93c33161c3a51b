import { redirectRemarks } from '../oauth/redirect-rules.ts';
import { compareRedirectUris, nearest } from '../oauth/redirect-uri.ts';
import type { Operation } from '../provider/api.ts';
import type { ProviderDefinition } from '../provider/definition.ts';
import { requirementsOf } from '../provider/requirements.ts';
import { reviewScopes } from '../scopes/compare.ts';
import { allows } from './privilege.ts';

/** What is known of a client before a consent, and of the connection for which it is asked. */
export interface Standing {
  /** What has no value yet, by its name. */
  missing: readonly string[];
  unconfirmed: readonly string[];
  redirectUri: string;
  /** Redirect URIs as they stand at the provider; null: nobody entered them. */
  redirectUrisThere: readonly string[] | null;
  domainsThere: readonly string[] | null;
  approval: string;
  reach: string;
  listedAccounts: readonly string[];
  /** A certificate or key that the provider has not accepted yet; left out: the client authenticates otherwise. */
  certificate?: 'made_here' | 'entered' | 'verified';
  /** A connection through this client works: what is only not entered here stops nothing. */
  works?: boolean;
  registeredScopes: readonly string[];
  /** Null for a client on its own, before any connection. */
  wants: { grantType: string; scopes: readonly string[]; operations: readonly Pick<Operation, 'id' | 'needs'>[]; expectedAccount: string | null } | null;
}

export interface ReadyLine {
  what: string;
  /** `missing` stops a consent; `doubt` is said and stops nothing. */
  verdict: 'good' | 'missing' | 'doubt';
  says: string;
  remedy: string | null;
}

const list = (names: readonly string[]): string => names.join(', ');

/**
 * Everything that can be known before something short-lived or final is started: what is entered, the redirect URI against the one
 * registered and the provider's rules, scopes registered against requested and needed, listed accounts against the expected one.
 */
export function readyLines(definition: ProviderDefinition, standing: Standing): ReadyLine[] {
  const lines: ReadyLine[] = [];
  const add = (what: string, verdict: ReadyLine['verdict'], says: string, remedy: string | null = null) => lines.push({ what, verdict, says, remedy });
  const { wants } = standing;
  const redirects =
    wants === null
      ? definition.server.authorization_endpoint !== undefined
      : wants.grantType === 'authorization_code' && definition.server.authorization_endpoint !== undefined;

  if (standing.missing.length > 0) add('entered', 'missing', `Missing: ${list(standing.missing)}.`, 'Enter it on the page of the client.');
  else add('entered', 'good', 'Id, secret and placeholders are entered.');
  if (standing.unconfirmed.length > 0)
    add('addresses', 'missing', `Not confirmed: ${list(standing.unconfirmed)}.`, 'If they are the provider\u2019s, confirm them with your own password.');

  for (const one of requirementsOf(definition))
    add('requirements', one.certain ? 'missing' : 'doubt', one.says, 'Ask the provider whether it can be turned off for this client.');
  if (standing.certificate !== undefined && standing.certificate !== 'verified')
    add(
      'certificate',
      'doubt',
      standing.certificate === 'made_here'
        ? 'A certificate was made here. Whether it was uploaded at the provider is not verified.'
        : 'Whether the provider knows this certificate or key is not verified.',
      'Upload its public part, compare the thumbprint, then verify it on the page of the client.',
    );
  if (redirects) lines.push(...redirectLines(definition, standing));
  if (wants) lines.push(...scopeLines(definition, standing.registeredScopes, wants));

  if (['requested', 'not_requested', 'info_requested', 'rejected'].includes(standing.approval))
    add(
      'approval',
      standing.approval === 'requested' ? 'doubt' : 'missing',
      APPROVAL_SAYS[standing.approval] ?? '',
      APPROVAL_REMEDY[standing.approval] ?? null,
    );
  if (standing.reach === 'listed' && redirects) lines.push(listedLine(standing.listedAccounts, wants?.expectedAccount ?? null, standing.works === true));
  return lines;
}

const APPROVAL_SAYS: Record<string, string> = {
  not_requested: 'The provider must approve the client. Approval is not requested yet.',
  requested: 'Approval requested. The provider may reject the client until it is approved.',
  info_requested: 'The provider requested more information.',
  rejected: 'The provider rejected the client.',
};
const APPROVAL_REMEDY: Record<string, string> = {
  not_requested: 'Send the provider\u2019s form. The answers are on the client\u2019s page.',
  requested: 'Meanwhile, build against a rehearsal of this provider.',
  info_requested: 'Answer the provider, then enter it here.',
  rejected: 'Request it again at the provider, or use another client.',
};

function redirectLines(definition: ProviderDefinition, standing: Standing): ReadyLine[] {
  const ours = standing.redirectUri;
  const there = standing.redirectUrisThere;
  const remarks = redirectRemarks(ours, definition.registration.redirect_uri, standing.domainsThere);
  const lines: ReadyLine[] = remarks.map((one) => ({
    what: 'redirect URI',
    verdict: one.verdict === 'broken' ? 'missing' : 'doubt',
    says: one.says,
    remedy: one.remedy,
  }));
  if (there === null)
    lines.push({
      what: 'redirect URI',
      verdict: 'doubt',
      says: 'Not verified: paste the redirect URI shown at the provider.',
      remedy: 'Copy it from the provider\u2019s page after saving, and compare it on the client\u2019s page.',
    });
  else if (there.includes(ours))
    lines.push({ what: 'redirect URI', verdict: 'good', says: 'Matches the one at the provider, character by character.', remedy: null });
  else {
    const verdict = compareRedirectUris(ours, nearest(ours, there));
    lines.push({
      what: 'redirect URI',
      verdict: 'missing',
      says: verdict.kind === 'same' ? '' : verdict.says,
      remedy: 'Fix it at the provider, save it, then paste it back here.',
    });
  }
  return lines;
}

function scopeLines(definition: ProviderDefinition, registered: readonly string[], wants: NonNullable<Standing['wants']>): ReadyLine[] {
  const lines: ReadyLine[] = [];
  const unregistered = wants.scopes.filter((scope) => !registered.includes(scope));
  const near = reviewScopes(unregistered, registered).flatMap((one) =>
    one.meant === null ? [] : [`\u201c${one.scope}\u201d may be called \u201c${one.meant}\u201d at the provider.`],
  );
  if (registered.length === 0)
    lines.push({
      what: 'scopes',
      verdict: 'doubt',
      says: 'Not verified: the scopes registered at the provider are not entered.',
      remedy: 'Enter them under \u201cDetails\u201d on the page of the client.',
    });
  else if (unregistered.length > 0)
    lines.push({
      what: 'scopes',
      verdict: 'missing',
      says: `Requested, but not registered at the provider: ${list(unregistered)}.${near.map((one) => ` ${one}`).join('')}`,
      remedy: 'Register them at the provider, or request fewer.',
    });
  for (const operation of wants.operations)
    if (!allows(wants.scopes, operation))
      lines.push({
        what: 'scopes',
        verdict: 'missing',
        says: `The operation ${operation.id} needs ${operation.needs.map((set) => list(set)).join(' or ')}, which is not requested.`,
        remedy: 'Add these scopes to the connection.',
      });
  const agreement = definition.scopes.filter((scope) => scope.organization && wants.scopes.includes(scope.name)).map((scope) => scope.name);
  if (agreement.length > 0)
    lines.push({
      what: 'scopes',
      verdict: 'doubt',
      says: `The whole organization needs admin consent to ${list(agreement)}.`,
      remedy: 'Get admin consent first.',
    });
  if (lines.every((line) => line.verdict === 'doubt') && registered.length > 0)
    lines.push({ what: 'scopes', verdict: 'good', says: 'All requested scopes are registered at the provider.', remedy: null });
  return lines;
}

function listedLine(listed: readonly string[], expected: string | null, works: boolean): ReadyLine {
  const line = (verdict: ReadyLine['verdict'], says: string, remedy: string | null): ReadyLine => ({ what: 'listed accounts', verdict, says, remedy });
  if (listed.length === 0)
    return line(
      works ? 'doubt' : 'missing',
      'Only listed accounts can sign in, and none is entered here.',
      'List the account at the provider, then enter it here.',
    );
  if (expected === null) return line('doubt', `Only these can consent: ${list(listed)}.`, 'Enter the expected account at the connection.');
  if (listed.some((one) => one.toLowerCase() === expected.toLowerCase())) return line('good', `${expected} is listed at the provider.`, null);
  return line(
    'missing',
    `${expected} is not among the listed accounts: ${list(listed)}.`,
    'List it at the provider, then enter it here. Or enter another expected account.',
  );
}

/** The one line: ready, or what is missing. */
export function readyInOne(lines: readonly ReadyLine[]): string {
  const missing = lines.filter((line) => line.verdict === 'missing');
  const doubts = [...new Set(lines.filter((line) => line.verdict === 'doubt').map((line) => line.what))];
  if (missing.length > 0) return `Not ready: ${missing.map((line) => line.says).join(' ')}`;
  return doubts.length > 0 ? `Ready. Not verified: ${list(doubts)}.` : 'Ready.';
}
