/** A browser in which an operator is signed in, over plain HTTP: it keeps cookies and sends where it comes from. */
export class OperatorBrowser {
  readonly #url: string;
  readonly #cookies = new Map<string, string>();

  constructor(url: string) {
    this.#url = url;
  }

  async send(path: string, init: { method?: string; body?: unknown; headers?: Record<string, string> } = {}): Promise<Response> {
    const response = await fetch(new URL(path, this.#url), {
      method: init.method ?? 'GET',
      redirect: 'manual',
      headers: {
        origin: this.#url,
        ...(init.body === undefined ? {} : { 'content-type': 'application/json' }),
        cookie: [...this.#cookies].map(([name, value]) => `${name}=${value}`).join('; '),
        ...init.headers,
      },
      ...(init.body === undefined ? {} : { body: JSON.stringify(init.body) }),
    });
    for (const line of response.headers.getSetCookie()) {
      const [pair = ''] = line.split(';');
      this.#cookies.set(pair.slice(0, pair.indexOf('=')), pair.slice(pair.indexOf('=') + 1));
    }
    return response;
  }

  async signIn(name: string, password: string): Promise<this> {
    const response = await this.send('/api/v1/session', { method: 'POST', body: { name, password } });
    if (!response.ok) throw new Error(`sign-in: ${response.status}`);
    return this;
  }

  /** Goes where a tool sends the browser and answers there; where it is sent back to. @throws where sign-in for tools stays shut */
  async answerSignIn(authorize: string, connection: string | null): Promise<URL> {
    const begun = await this.send(authorize);
    const id = /\/sign-in-requests\/([0-9a-f-]{36})$/.exec(begun.headers.get('location') ?? '')?.[1];
    if (id === undefined) throw new Error(`sign-in for tools answered ${begun.status} ${begun.headers.get('location') ?? (await begun.text())}`);
    const answered = await this.send(`/api/v1/sign-in-requests/${id}/answer`, { method: 'POST', body: { connection } });
    if (!answered.ok) throw new Error(`the answer was rejected: ${await answered.text()}`);
    return new URL(((await answered.json()) as { location: string }).location);
  }
}
