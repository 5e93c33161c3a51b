import type { CallAnswer } from '../../api/common.ts';
import { Fault } from '../../core/fault.ts';
import { methodOfProbe, probeOf } from '../../core/provider/api.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { apiAddress, callApi, isGood } from '../calls.ts';
import { refuseUnconfirmed } from './client-record.ts';
import { current, refusePaused } from './connections.ts';
import type { Services } from './services.ts';

/** The call that proves the connection; its answer is kept on the grant. */
export async function probeConnection(s: Services, name: string): Promise<CallAnswer> {
  const { one, grantId, definition, unconfirmed } = await current(s, name);
  refusePaused(one);
  refuseUnconfirmed(unconfirmed);
  const probe = probeOf(definition);
  if (!probe) throw new Fault('NOT_FOUND', { detail: `The definition of ${definition.title} names no probe.`, remedy: 'Call a path of your choice instead.' });
  const token = await s.handout(grantId);
  const answer = await callApi(s.ports, apiAddress(definition, probe.path), token.access, methodOfProbe(probe));
  await keepProof(s, grantId, answer, definition);
  return answer;
}

export async function keepProof(s: Pick<Services, 'tables'>, grantId: string, answer: CallAnswer, definition: ProviderDefinition): Promise<void> {
  await s.tables.grants.change({ id: grantId }, { proof: isGood(answer, definition) ? 'proved' : 'failed', proofAnswer: answer });
}

export async function callConnection(s: Services, name: string, path: string, operator: string): Promise<CallAnswer> {
  const { one, grantId, definition, unconfirmed } = await current(s, name);
  refusePaused(one);
  refuseUnconfirmed(unconfirmed);
  const address = apiAddress(definition, path);
  const token = await s.handout(grantId);
  const answer = await callApi(s.ports, address, token.access);
  s.history.add({
    actor: operator,
    kind: 'called',
    subject: `connection:${name}`,
    says: `GET ${new URL(address.url).pathname} answered ${answer.status ?? answer.reason}.`,
  });
  return answer;
}
