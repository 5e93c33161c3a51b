/** What takes longer shows that it goes on. */
const QUIET_MS = 1_000;

/** Shows on the terminal's standard error that something takes longer than a second. Programs that read the output see nothing of it. */
export async function whileWaiting<T>(work: Promise<T>): Promise<T> {
  if (!process.stderr.isTTY || !process.stdin.isTTY) return work;
  let end = () => undefined as unknown;
  const timer = setTimeout(async () => {
    const { default: ora } = await import('ora');
    const startedAt = Date.now() - QUIET_MS;
    const says = () => `Working, ${Math.round((Date.now() - startedAt) / 1000)} s`;
    const spinner = ora({ text: says(), discardStdin: false });
    const tick = setInterval(() => (spinner.text = says()), QUIET_MS);
    end = () => {
      clearInterval(tick);
      return spinner.stop();
    };
    spinner.start();
  }, QUIET_MS);
  try {
    return await work;
  } finally {
    clearTimeout(timer);
    end();
  }
}
