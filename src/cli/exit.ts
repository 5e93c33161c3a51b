/** What the exit codes mean; `rk --help` says the same. */
export const EXIT = { done: 0, failed: 1, usage: 2, signIn: 3, notFound: 4, conflict: 5, later: 6, person: 7 } as const;

/** A wrong use that the parser could not see. */
export class UsageError extends Error {}
/** The command did its work; what it found requests a code of its own. */
export class Outcome extends Error {
  readonly code: number;
  constructor(code: number, says: string) {
    super(says);
    this.code = code;
  }
}

interface Explained {
  title: string;
  detail?: string | undefined;
  remedy: string;
  status: number;
  code: string;
  places?: { path: string; line?: number | undefined; why: string }[] | undefined;
}

/** Prints an error with its remedy on stderr and sets the exit code. */
export async function leave(error: unknown): Promise<void> {
  const { default: colours } = await import('picocolors');
  const { plain } = await import('./plain.ts');
  const write = (text: string) => process.stderr.write(`${plain(text)}\n`);
  if (error instanceof Outcome || error instanceof UsageError) {
    write(colours.red(error.message));
    process.exitCode = error instanceof Outcome ? error.code : EXIT.usage;
    return;
  }
  const problem = explain(error);
  if (!problem) {
    if (error instanceof Error && error.name === 'ExitPromptError') {
      process.exitCode = EXIT.failed;
      return;
    }
    write(colours.red(`rk failed: ${error instanceof Error ? error.message : 'unknown reason'}`));
    process.exitCode = EXIT.failed;
    return;
  }
  const isNamed = problem.code === 'NOT_FOUND' && problem.detail; // “Connection … not found.” needs no heading
  write(isNamed ? colours.red(problem.detail ?? '') : colours.red(problem.title) + (problem.detail ? ` ${problem.detail}` : ''));
  for (const place of problem.places ?? []) write(`  ${place.line ? `line ${place.line}, ` : ''}${place.path}: ${place.why}`);
  write(`What to do: ${problem.remedy}`);
  write(colours.dim(`About this error: docs/ERRORS.md#${problem.code.toLowerCase().replaceAll('_', '-')}, or Help in the console`));
  process.exitCode = exitCode(problem);
}

function explain(error: unknown): Explained | null {
  if (!(error instanceof Error)) return null;
  if ('problem' in error) return error.problem as Explained; // ProblemError of the API client
  if (error.name === 'Fault') {
    const fault = error as Error & { code: string; status: number; remedy: string; places: Explained['places'] };
    return { title: fault.message, remedy: fault.remedy, status: fault.status, code: fault.code, places: fault.places };
  }
  return null;
}

function exitCode(problem: Explained): number {
  if (problem.code === 'GRANT_REFUSED' || problem.code === 'CONNECTION_NOT_CONSENTED') return EXIT.person;
  const byStatus: Record<number, number> = { 401: EXIT.signIn, 404: EXIT.notFound, 409: EXIT.conflict, 429: EXIT.later, 503: EXIT.later };
  return byStatus[problem.status] ?? EXIT.failed;
}
