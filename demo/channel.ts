import type { ApiClient } from '../src/api/client.ts';
import { ChannelRule } from '../src/core/notices/channel.ts';

export const MAIL_PORT = 7442;

/** What needs action, by mail. */
export async function seedChannel(call: ApiClient): Promise<void> {
  const { items } = await call('listChannels', {});
  if (items.some((one) => one.name === 'ops')) return;
  const rule = ChannelRule.parse({ zone: 'Europe/Oslo', severities: { action: 'now', warning: 'now', info: 'digest' } });
  await call('addChannel', { body: { kind: 'mail', name: 'ops', to: ['ops@saltmarsh.example'], rule } });
}
