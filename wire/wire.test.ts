import { connect, createServer, type Server, type Socket } from 'node:net';
import { afterEach, describe, expect, test } from 'vitest';
import { clock, Driver, TcpClient, type TcpClientOptions, TcpListener, UdpLink } from './index.ts';
import type { Session } from '@halvix/core/session';

const closers: (() => unknown)[] = [];
afterEach(async () => {
  for (const close of closers.splice(0)) await close();
});

const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));
async function until(holds: () => boolean): Promise<void> {
  for (let i = 0; i < 6000 && !holds(); i++) await pause(10);
  expect(holds()).toBe(true);
}

async function freePort(): Promise<number> {
  const server = createServer();
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  const address = server.address();
  await new Promise((resolve) => server.close(resolve));
  return typeof address === 'object' && address !== null ? address.port : 0;
}

function serve(port: number, host = '127.0.0.1'): { server: Server; sockets: Socket[] } {
  const sockets: Socket[] = [];
  const server = createServer((socket) => sockets.push(socket.on('error', () => {})));
  server.listen(port, host);
  closers.push(() => {
    sockets.forEach((socket) => socket.destroy());
    return new Promise((resolve) => server.close(resolve));
  });
  return { server, sockets };
}

function client(port: number, more: Partial<TcpClientOptions> = {}): { link: TcpClient; log: string[] } {
  const log: string[] = [];
  const link = new TcpClient(
    { host: '127.0.0.1', port, connectTimeoutMs: 500, reconnectFirstMs: 20, reconnectMaxMs: 80, ...more },
    {
      up: () => log.push('up'),
      down: () => log.push('down'),
      data: (bytes) => log.push(`data ${Buffer.from(bytes).toString()}`),
      changed: () => {},
    },
  );
  closers.push(() => link.close());
  link.open();
  return { link, log };
}

describe('networks that may be connected to', () => {
  const refused = 'is outside the networks that may be connected to: 10.20.0.0/16, 192.0.2.7';
  const told = async (link: TcpClient | UdpLink): Promise<string | null> => {
    closers.push(() => link.close());
    link.open();
    await until(() => link.state.state === 'waiting');
    return link.state.problem;
  };
  const pauses = { connectTimeoutMs: 500, reconnectFirstMs: 1000, reconnectMaxMs: 1000 };
  const nothing = { up: () => {}, down: () => {}, data: () => {}, changed: () => {} };

  test('an address outside them is not called, by number or by name, over TCP or UDP; one within is', async () => {
    const port = await freePort();
    const { sockets } = serve(port);
    process.env.HALVIX_FIELD_NETWORKS = '10.20.0.0/16, 192.0.2.7';
    closers.push(() => delete process.env.HALVIX_FIELD_NETWORKS);
    for (const host of ['127.0.0.1', 'localhost'])
      for (const link of [
        new TcpClient({ host, port, ...pauses }, nothing),
        new UdpLink({ host, port, localPort: 0, ...pauses }, nothing),
      ])
        expect(await told(link)).toMatch(new RegExp(`^(127\\.0\\.0\\.1|::1) ${refused.replaceAll('.', '\\.')}$`));
    expect(sockets).toHaveLength(0);
    process.env.HALVIX_FIELD_NETWORKS = '127.0.0.0/8';
    const { log } = client(port);
    await until(() => log.includes('up'));
  });
});

describe('TCP client', () => {
  test('tries for ever, says why and when next, and connects once somebody listens', async () => {
    const port = await freePort();
    const { link, log } = client(port);
    await until(() => link.state.state === 'waiting' && link.state.tries >= 3);
    expect(link.state.problem).toBe('refused, nothing listens there');
    expect(link.state.nextTry).toBeGreaterThan(clock.now() - 200);
    const { sockets } = serve(port);
    await until(() => log.includes('up'));
    expect(link.state).toMatchObject({ state: 'connected', tries: 0, problem: null });
    link.send(Buffer.from('out'));
    sockets[0].write('in');
    await until(() => log.includes('data in'));
  });

  test('a connection that ends is made again', async () => {
    const port = await freePort();
    const { sockets } = serve(port);
    const { log } = client(port);
    await until(() => log.includes('up'));
    sockets[0].destroy();
    await until(() => log.filter((word) => word === 'up').length === 2);
    expect(log).toEqual(['up', 'down', 'up']);
  });

  test('of two addresses it stays at the one that answers, and goes to the other one when that has gone', async () => {
    const port = await freePort();
    const first = serve(port, '127.0.0.2');
    const { link, log } = client(port, { host: '127.0.0.2', standbyHost: '127.0.0.3' });
    await until(() => log.includes('up'));
    expect(link.where).toBe(`127.0.0.2:${port}`);
    const second = serve(port, '127.0.0.3');
    first.server.close();
    first.sockets[0].destroy();
    await until(() => link.state.state === 'waiting');
    expect(link.state.problem).toContain(`127.0.0.2:${port}: the other end closed`);
    await until(() => second.sockets.length === 1);
    await until(() => log.join() === 'up,down,up');
    expect(link.where).toBe(`127.0.0.3:${port}`);
    // Neither answers: both are tried, in turn.
    second.server.close();
    second.sockets[0].destroy();
    const problems = new Set<string>();
    await until(() => {
      if (link.state.problem !== null) problems.add(link.state.problem.split(':')[0]);
      return problems.size === 2;
    });
    const back = serve(port, '127.0.0.2');
    await until(() => back.sockets.length === 1);
    expect([...problems].sort()).toEqual(['127.0.0.2', '127.0.0.3']);
  });

  test('closed, it tries no more', async () => {
    const { link } = client(await freePort());
    await until(() => link.state.tries >= 1);
    link.close();
    const { tries } = link.state;
    await pause(150);
    expect(link.state.tries).toBe(tries);
  });
});

describe('TCP listener', () => {
  async function listener(quietMs: number): Promise<{ listener: TcpListener; log: string[]; port: number }> {
    const port = await freePort();
    const log: string[] = [];
    const made = new TcpListener(
      { host: '127.0.0.1', port, quietMs },
      {
        up: () => log.push('up'),
        down: () => log.push('down'),
        data: (bytes) => {
          log.push(`data ${Buffer.from(bytes).toString()}`);
          made.heard();
        },
        refused: () => log.push('refused'),
        changed: () => log.push(made.problem ?? 'listening'),
      },
    );
    made.open();
    closers.push(() => made.close());
    await until(() => log.includes('listening'));
    return { listener: made, log, port };
  }
  const call = async (port: number): Promise<Socket> => {
    const socket = connect(port, '127.0.0.1');
    socket.on('error', () => {});
    closers.push(() => socket.destroy());
    await new Promise((resolve) => socket.on('connect', resolve));
    return socket;
  };

  test('a second peer is refused while the first is in use', async () => {
    const { log, port } = await listener(10_000);
    const first = await call(port);
    first.write('hello');
    await until(() => log.includes('data hello'));
    const second = await call(port);
    await until(() => second.destroyed || log.includes('refused'));
    expect(log).toEqual(['listening', 'up', 'data hello', 'refused']);
    first.write('still here');
    await until(() => log.includes('data still here'));
  });

  test('a first peer that has said nothing valid gives way', async () => {
    const { log, port } = await listener(10_000);
    await call(port);
    await until(() => log.includes('up'));
    await call(port);
    await until(() => log.filter((word) => word === 'up').length === 2);
    expect(log).toEqual(['listening', 'up', 'down', 'up']);
  });

  test('a first peer that has gone quiet gives way', async () => {
    const { log, port } = await listener(50);
    const first = await call(port);
    first.write('x');
    await until(() => log.includes('data x'));
    await pause(80);
    await call(port);
    await until(() => log.filter((word) => word === 'up').length === 2);
    expect(log).not.toContain('refused');
  });

  test('a port that is taken is named, and tried again until it is free', async () => {
    const { listener: first, port } = await listener(1000);
    const log: string[] = [];
    const second = new TcpListener(
      { host: '127.0.0.1', port, quietMs: 1000 },
      {
        up: () => {},
        down: () => {},
        data: () => {},
        refused: () => {},
        changed: () => log.push(second.problem ?? 'listening'),
      },
    );
    second.open();
    closers.push(() => second.close());
    await until(() => log.includes('another program uses that port'));
    await first.close();
    await until(() => log.includes('listening'));
  });
});

/** A session that echoes, and asks to be woken. */
class Echo implements Session<string, string> {
  deadline: number | null = null;
  private effects: string[] = [];
  start(now: number): void {
    this.deadline = now + 30;
  }
  stop(): void {
    this.deadline = null;
  }
  receive(bytes: Uint8Array): void {
    this.effects.push(`got ${bytes.length}`);
  }
  command(command: string): void {
    this.effects.push(command);
  }
  wake(): void {
    this.deadline = null;
    this.effects.push('woken');
  }
  take(): string[] {
    return this.effects.splice(0);
  }
}

describe('driver', () => {
  test('carries out effects in order, those of effects after them, and keeps the deadline', async () => {
    const log: string[] = [];
    const driver: Driver<string, string> = new Driver(new Echo(), (effect) => {
      log.push(effect);
      if (effect === 'first') driver.command('caused by first');
    });
    driver.start();
    driver.command('first');
    driver.receive(Uint8Array.of(1, 2));
    expect(log).toEqual(['first', 'caused by first', 'got 2']);
    await until(() => log.includes('woken'));
    driver.close();
  });
});

test('the clock never runs backwards', () => {
  let last = clock.now();
  for (let i = 0; i < 10_000; i++) {
    const now = clock.now();
    expect(now).toBeGreaterThanOrEqual(last);
    last = now;
  }
  expect(Math.abs(last - Date.now())).toBeLessThan(1000);
});
