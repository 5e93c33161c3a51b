import type { Answers } from '../../api/clients.ts';
import { ANSWERS } from '../../core/provider/registration.ts';
import type { Command } from '../operation-call.ts';
import type { ClientParts } from './parts.ts';

/** What every form asks for, as it was answered for the installation; empty where nobody has. */
export async function showAnswers(s: Pick<ClientParts, 'store'>): Promise<Answers> {
  const kept = (await s.store.installation.read())?.answers ?? {};
  return Object.fromEntries(ANSWERS.map((name) => [name, kept[name] ?? ''])) as Answers;
}

export async function changeAnswers(s: ClientParts, { body: change, actor }: Command<'changeAnswers'>): Promise<Answers> {
  const operator = actor.operator.name;
  const given = Object.fromEntries(Object.entries(change).filter(([, answer]) => answer !== undefined));
  const answers: Answers = { ...(await showAnswers(s)), ...given };
  await s.store.installation.change({ answers });
  s.history.add({
    actor: operator,
    kind: 'answers_changed',
    subject: 'installation',
    says: `Changed what is answered in forms: ${Object.keys(change)
      .map((name) => name.replaceAll('_', ' '))
      .join(', ')}.`,
  });
  return answers;
}
