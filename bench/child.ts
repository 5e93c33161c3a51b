import { type ChildProcess, spawn } from 'node:child_process';
import { fileURLToPath } from 'node:url';

/** Starts a script of this folder that prints its port. */
export async function startChild(script: string, args: string[] = []): Promise<{ port: number; pid: number; stop(): void }> {
  const child: ChildProcess = spawn(process.execPath, ['--import', 'tsx', fileURLToPath(new URL(script, import.meta.url)), ...args], {
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  const port = await new Promise<number>((resolve, reject) => {
    child.stdout?.once('data', (text) => resolve(Number(String(text).trim())));
    child.once('exit', (code) => reject(new Error(`${script} ended with ${code}`)));
  });
  return { port, pid: child.pid ?? 0, stop: () => void child.kill('SIGTERM') };
}
