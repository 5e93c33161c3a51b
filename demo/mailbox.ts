import { SMTPServer } from 'smtp-server';
import type { ApiClient } from '../src/api/client.ts';
import { ChannelRule } from '../src/core/notices/channel.ts';

export const MAIL_PORT = 7442;

/** The operators' mailbox: a mail server on loopback that shows the subject of each mail. */
export async function startMailbox(onLine: (line: string) => void): Promise<{ stop(): Promise<void> }> {
  const server = new SMTPServer({
    authOptional: true,
    disabledCommands: ['STARTTLS'],
    onData(stream, session, done) {
      let text = '';
      stream.on('data', (part) => (text += part));
      stream.on('end', () => {
        const subject = (/^Subject: ([\s\S]*?)\r\n(?! )/m.exec(text)?.[1] ?? '').replace(/\r\n /g, ' ');
        onLine(`${session.envelope.rcptTo.map((one) => one.address).join(', ')}: ${subject}`);
        done();
      });
    },
  });
  await new Promise<void>((resolve, reject) => {
    server.once('error', reject);
    server.listen(MAIL_PORT, '127.0.0.1', resolve);
  });
  return { stop: () => new Promise((resolve) => server.close(() => resolve())) };
}

/** What needs action, by mail. */
export async function seedChannel(call: ApiClient): Promise<void> {
  const { items } = await call('listChannels', {});
  if (items.some((one) => one.name === 'ops')) return;
  const rule = ChannelRule.parse({ zone: 'Europe/Oslo', severities: { action: 'now', warning: 'now', info: 'digest' } });
  await call('addChannel', { body: { kind: 'mail', name: 'ops', to: ['ops@saltmarsh.example'], rule } });
}
