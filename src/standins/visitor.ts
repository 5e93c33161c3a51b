import { request } from 'undici';

/**
 * A consent played over plain HTTP, as a browser would: follows the link, keeps cookies for each host, fills in the
 * provider's forms, and ends on our landing address. Used by the demo's seeding and by the tests.
 */
export interface PlayedConsent {
  /** Everything that was fetched, in order: method, address without its query, status. */
  steps: { what: string; status: number }[];
  /** Where it ended: our landing address, or the provider's own page. */
  endedAt: string;
  body: string;
}

export interface PlayOptions {
  account?: string;
  password?: string;
  untick?: string[];
  refuse?: boolean;
  /** Stops before the callback is fetched; `endedAt` is then the callback's address. */
  stopBeforeCallback?: boolean;
}

export class Browser {
  readonly #cookies = new Map<string, Map<string, string>>();
  readonly steps: PlayedConsent['steps'] = [];

  async fetch(address: string, form?: URLSearchParams): Promise<{ status: number; location: string | null; body: string }> {
    const url = new URL(address);
    const host = url.host;
    const jar = this.#cookies.get(host) ?? new Map<string, string>();
    this.#cookies.set(host, jar);
    // `*.localhost` is loopback for a browser (RFC 6761 §6.3); here it is said by hand.
    const target = `http://127.0.0.1:${url.port}${url.pathname}${url.search}`;
    const answer = await request(target, {
      method: form ? 'POST' : 'GET',
      headers: {
        host,
        cookie: [...jar].map(([name, value]) => `${name}=${value}`).join('; '),
        ...(form ? { 'content-type': 'application/x-www-form-urlencoded' } : {}),
      },
      body: form?.toString() ?? null,
    });
    for (const cookie of [answer.headers['set-cookie'] ?? []].flat()) {
      const [pair = ''] = cookie.split(';');
      jar.set(pair.slice(0, pair.indexOf('=')), pair.slice(pair.indexOf('=') + 1));
    }
    const location = answer.headers.location;
    this.steps.push({ what: `${form ? 'POST' : 'GET'} ${url.origin}${url.pathname}`, status: answer.statusCode });
    return { status: answer.statusCode, location: typeof location === 'string' ? new URL(location, address).href : null, body: await answer.body.text() };
  }
}

export async function playConsent(startUrl: string, options: PlayOptions = {}, browser = new Browser()): Promise<PlayedConsent> {
  const ended = (endedAt: string, body = ''): PlayedConsent => ({ steps: browser.steps, endedAt, body });
  const invited = await browser.fetch(startUrl);
  if (invited.status !== 200) return ended(startUrl, invited.body);
  const started = await browser.fetch(startUrl, new URLSearchParams());
  if (!started.location) return ended(startUrl, started.body);
  return playAuthorization(started.location, options, browser);
}

/** The same from the provider's own address on, where no redirect of this service leads there. */
export async function playAuthorization(address: string, options: PlayOptions = {}, browser = new Browser()): Promise<PlayedConsent> {
  const ended = (endedAt: string, body = ''): PlayedConsent => ({ steps: browser.steps, endedAt, body });
  const asked = await browser.fetch(address);
  if (asked.location) return follow(browser, asked.location, options, ended);
  const origin = new URL(address).origin;
  const pending = /name="request" value="([^"]+)"/.exec(asked.body)?.[1];
  if (!pending) return ended(address, asked.body);
  const consent = await browser.fetch(
    `${origin}/sign-in`,
    new URLSearchParams({ request: pending, account: options.account ?? 'eg-1042', password: options.password ?? 'low-tide' }),
  );
  if (consent.status === 403) return ended(`${origin}/sign-in`, consent.body);
  const offered = [...consent.body.matchAll(/name="scope" value="([^"]+)"/g)].map((match) => match[1] ?? '');
  const decision = new URLSearchParams({ request: pending, decision: options.refuse ? 'refuse' : 'agree' });
  for (const scope of offered) if (!options.untick?.includes(scope)) decision.append('scope', scope);
  const decided = await browser.fetch(`${origin}/decide`, decision);
  return decided.location ? follow(browser, decided.location, options, ended) : ended(`${origin}/decide`, decided.body);
}

/** A person follows the link of an invitation and decides at the provider. @throws Error where the link leads nowhere */
export async function playInvitation(url: string, options: PlayOptions = {}): Promise<PlayedConsent> {
  const browser = new Browser();
  const page = (await browser.fetch(url)).location ?? url;
  const away = await browser.fetch(`${page}/start`, new URLSearchParams());
  if (!away.location) throw new Error('The link of the invitation led nowhere.');
  return playAuthorization(away.location, options, browser);
}

async function follow(browser: Browser, callback: string, options: PlayOptions, ended: (at: string, body?: string) => PlayedConsent): Promise<PlayedConsent> {
  if (options.stopBeforeCallback) return ended(callback);
  const landed = await browser.fetch(callback);
  return ended(landed.location ?? callback, landed.body);
}

/**
 * Plays a consent in whatever way it was opened. Where the answer comes back by hand, or to a program on this machine, it is brought
 * back as that program would.
 */
export async function playOpened(
  opened: { id: string; start_url: string; authorization_url: string | null },
  bring: (consent: string, address: string) => Promise<unknown>,
  options: PlayOptions = {},
  browser = new Browser(),
): Promise<PlayedConsent> {
  if (opened.authorization_url === null) return playConsent(opened.start_url, options, browser);
  const played = await playAuthorization(opened.authorization_url, { ...options, stopBeforeCallback: true }, browser);
  if (/[?&](code|error)=/.test(played.endedAt)) await bring(opened.id, played.endedAt);
  return played;
}

/** Enters a device code at a stand-in and decides (RFC 8628 §3.3). */
export async function playDevice(page: string, userCode: string, options: PlayOptions = {}, browser = new Browser()): Promise<string> {
  await browser.fetch(page, new URLSearchParams({ user_code: userCode }));
  const consent = await browser.fetch(
    `${page}/sign-in`,
    new URLSearchParams({ request: userCode, account: options.account ?? 'eg-1042', password: options.password ?? 'low-tide' }),
  );
  const decision = new URLSearchParams({ request: userCode, decision: options.refuse ? 'refuse' : 'agree' });
  for (const [, scope = ''] of consent.body.matchAll(/name="scope" value="([^"]+)"/g)) if (!options.untick?.includes(scope)) decision.append('scope', scope);
  return (await browser.fetch(`${page}/decide`, decision)).body;
}

/**
 * Registers a client at a stand-in in one go, with everything opened to it: what a person does page by page in its console. `at` is any
 * address of the part of the provider where it is to be known.
 */
export async function registerAtStandin(
  at: string,
  name: string,
  redirectUri: string,
  { certificate, ...more }: { certificate?: string; listed?: string; approval?: 'requested' } = {},
): Promise<{ id: string; secret: string }> {
  const answer = await new Browser().fetch(
    `${new URL(at).origin}/standin/clients`,
    new URLSearchParams({ name, redirect_uri: redirectUri, ...(certificate ? { certificate } : {}), ...more }),
  );
  if (answer.status !== 201) throw new Error(`the stand-in registered no client: ${answer.body}`);
  const { client_id: id, client_secret: secret } = JSON.parse(answer.body) as { client_id: string; client_secret: string };
  return { id, secret };
}
