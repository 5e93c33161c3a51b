import { type AddressInfo, connect, createServer, type Socket } from 'node:net';

/** A virtual address: it passes connections on to a server, and from one moment on to another one. */
export interface Forwarder {
  port: number;
  /** New connections go there; those that are open are cut. */
  switchTo(port: number): void;
  stop(): Promise<void>;
}

export async function startForwarder(to: number): Promise<Forwarder> {
  let target = to;
  const open = new Set<Socket>();
  const server = createServer((near) => {
    const far = connect(target, '127.0.0.1');
    for (const [one, other] of [
      [near, far],
      [far, near],
    ] as const) {
      open.add(one);
      one.pipe(other);
      one.on('error', () => other.destroy());
      one.on('close', () => {
        open.delete(one);
        other.destroy();
      });
    }
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  const cut = () => {
    for (const socket of open) socket.destroy();
  };
  return {
    port: (server.address() as AddressInfo).port,
    switchTo(port) {
      target = port;
      cut();
    },
    stop: () =>
      new Promise((resolve) => {
        server.close(() => resolve());
        cut();
      }),
  };
}
