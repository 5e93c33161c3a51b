import type { z } from 'zod';
import type { Answers, ChangeAnswers } from '../../api/clients.ts';
import { ANSWERS } from '../../core/provider/registration.ts';
import type { Services } from './services.ts';

/** The one row that describes this installation. */
const INSTALLATION = 1;

/** What every form asks for, as it was answered for the installation; empty where nobody has. */
export async function showAnswers(s: Pick<Services, 'tables'>): Promise<Answers> {
  const row = await s.tables.installations.find({ id: INSTALLATION });
  const kept = (row?.answers ?? {}) as Partial<Answers>;
  return Object.fromEntries(ANSWERS.map((name) => [name, kept[name] ?? ''])) as Answers;
}

export async function changeAnswers(s: Services, change: z.output<typeof ChangeAnswers>, operator: string): Promise<Answers> {
  const given = Object.fromEntries(Object.entries(change).filter(([, answer]) => answer !== undefined));
  const answers: Answers = { ...(await showAnswers(s)), ...given };
  await s.tables.installations.change({ id: INSTALLATION }, { answers });
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
