/** The page of what an entry of the history is about; null: it has none. */
export function subjectLink(subject: string): { text: string; href: string } | null {
  const [kind = '', ...rest] = subject.split(':');
  const name = rest.join(':');
  if (name === '') return null;
  switch (kind) {
    case 'connection':
      return { text: name, href: `#/connections/${name}` };
    case 'caller':
      return { text: name, href: `#/callers/${name}` };
    case 'provider':
      return { text: name, href: `#/providers/${name}` };
    case 'job':
      return { text: name, href: `#/jobs/${name}` };
    case 'channel':
      return { text: name, href: '#/settings/channels' };
    case 'client': {
      const [provider, client] = name.split('/');
      return { text: name, href: `#/providers/${provider}/clients/${client}` };
    }
    default:
      return null;
  }
}
