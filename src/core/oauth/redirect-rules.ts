import type { RedirectRules } from '../provider/registration.ts';
import { isLoopbackHost } from '../provider/web-address.ts';
import { parseUrl } from '../url.ts';

export interface RedirectRemark {
  rule: 'https' | 'ip' | 'listed_domain' | 'fragment';
  /** `broken`: the provider will not take it. `unknown`: it depends on what is listed there, which is not entered here. */
  verdict: 'broken' | 'unknown';
  says: string;
  remedy: string;
}

const BARE_IP = /^(\d{1,3}(\.\d{1,3}){3}|\[[0-9a-f:.]+\])$/i;

/** True where `host` is one of the domains, or below one of them. */
const isListedDomain = (host: string, domains: readonly string[]): boolean =>
  domains.some((domain) => host === domain.toLowerCase() || host.endsWith(`.${domain.toLowerCase()}`));

/**
 * What a provider's own rules say of a redirect URI, before anybody pastes it there. RFC 6749 §3.1.2 (absolute, no fragment),
 * RFC 8252 §7.3 (http for loopback).
 * @param domains listed at the provider; null: nobody entered them.
 */
export function redirectRemarks(redirectUri: string, rules: RedirectRules, domains: readonly string[] | null): RedirectRemark[] {
  const url = parseUrl(redirectUri);
  const broken = (rule: RedirectRemark['rule'], says: string, remedy: string): RedirectRemark => ({ rule, verdict: 'broken', says, remedy });
  if (!url) return [broken('fragment', 'It is no absolute address.', 'Give a whole address, with https://.')];
  const remarks: RedirectRemark[] = [];
  if (url.hash) remarks.push(broken('fragment', 'It has a fragment (#…).', 'Leave the fragment out.'));
  const loopback = isLoopbackHost(url.hostname);
  if (url.protocol !== 'https:' && (rules.https === 'always' || (rules.https === 'except_loopback' && !loopback)))
    remarks.push(
      broken(
        'https',
        `The provider takes https only${rules.https === 'always' ? ', also for this machine' : ''}; it starts with ${url.protocol}//.`,
        'Give this service a public address with https, then start the client again.',
      ),
    );
  if (BARE_IP.test(url.hostname) && (rules.ip === 'refused' || (rules.ip === 'loopback_only' && !loopback)))
    remarks.push(
      broken(
        'ip',
        `The provider takes no bare IP address; the host is ${url.hostname}.`,
        'Give this service a public address with a name, then start the client again.',
      ),
    );
  if (rules.listed_domain && domains === null)
    remarks.push({
      rule: 'listed_domain',
      verdict: 'unknown',
      says: `The provider must list its host ${url.hostname} first.`,
      remedy: `List ${url.hostname} at the provider, then enter the listed domains here.`,
    });
  else if (rules.listed_domain && !isListedDomain(url.hostname, domains ?? []))
    remarks.push(
      broken(
        'listed_domain',
        `Its host ${url.hostname} is not among the listed domains: ${domains?.join(', ') || 'none'}.`,
        `List ${url.hostname} at the provider before the redirect URI.`,
      ),
    );
  return remarks;
}
