import { Lane, NO_LINE_TIMING, type LaneCommand, type LaneEffect } from '@halvix/core/line';
import type { Client, ClientCommand, ClientNews, Server, ServerCommand, ServerEffect } from '@halvix/core/protocols';
import { Driver, sendTogether, TcpClient, clock, type TlsFiles } from '@halvix/wire';
import { fork } from 'node:child_process';
import { createServer, type Socket } from 'node:net';

/* Both ends of what has a connection for itself, on loopback, for measures and tests. */

export const HOST = '127.0.0.1';
export const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));
export const report = (figure: string, value: number, unit: string, more: object = { better: 'lower' }): void =>
  void process.stdout.write(`${JSON.stringify({ figure, value: Number(value.toFixed(3)), unit, ...more })}\n`);

/** A server on a port, for as many peers as come. */
export function serverOn<Target>(port: number, server: Server<Target>): Driver<ServerCommand<Target>, ServerEffect> {
  const sockets = new Map<number, Socket>();
  let peers = 0;
  const driver = new Driver(server, (effect: ServerEffect) => {
    const socket = sockets.get('peer' in effect ? (effect.peer ?? -1) : -1);
    if (effect.type === 'send' && socket) sendTogether(socket, effect.octets);
    if (effect.type === 'hangUp') socket?.end();
  });
  createServer({ noDelay: true }, (socket) => {
    const peer = ++peers;
    sockets.set(peer, socket);
    socket.on('error', () => {});
    socket.on('data', (octets) => driver.command({ type: 'octets', peer, octets }));
    socket.on('close', () => {
      sockets.delete(peer);
      driver.command({ type: 'went', peer });
    });
    driver.command({ type: 'came', peer });
  }).listen(port, HOST);
  return driver;
}

/** A client on a connection of its own. */
export function clientOn<At>(
  port: number,
  client: Client<At, never, Uint8Array>,
  onNews: (news: ClientNews) => void,
  tls?: TlsFiles,
): { command: (command: ClientCommand<At, never>) => void; close: () => void } {
  const framing = { gapMs: 0, reset: () => {}, push: (octets: Uint8Array) => [octets], isFrame: () => true };
  const lane = new Lane<ClientCommand<At, never>, ClientNews, Uint8Array>(NO_LINE_TIMING, framing, clock.now());
  lane.add('D', client, clock.now());
  const driver: Driver<LaneCommand<ClientCommand<At, never>>, LaneEffect<ClientNews>> = new Driver(lane, (effect) => {
    if (effect.type === 'send') link.send(effect.octets);
    if (effect.type === 'device') onNews(effect.effect);
  });
  const link = new TcpClient(
    { host: HOST, port, connectTimeoutMs: 2000, reconnectFirstMs: 100, reconnectMaxMs: 500, ...(tls ? { tls } : {}) },
    {
      up: () => driver.start(),
      down: () => driver.stop(),
      data: (octets) => driver.receive(octets),
      changed: () => {},
    },
  );
  link.open();
  return {
    command: (command) => driver.command({ device: 'D', command }),
    close: () => {
      link.close();
      driver.stop();
      driver.close();
    },
  };
}

/** In the servers' process: calls `change` so often a second while the other process wants it, and tells how often. */
export function onDemand(perSecond: number, change: (made: number, now: number) => void, flush: () => void): void {
  let [made, owed, running, last] = [0, 0, false, clock.now()];
  process.on('message', (message: { run: boolean }) => {
    running = message.run;
    if (!running) process.send?.({ made });
  });
  setInterval(() => {
    const now = clock.now();
    owed += ((now - last) / 1000) * perSecond;
    last = now;
    if (!running) owed = 0;
    for (; owed >= 1; owed--) change(++made, now);
    flush();
  }, 5);
  process.on('SIGTERM', () => process.exit(0));
  process.send?.({ ready: true });
}

/** Another process with servers; `run` begins and ends its changes, and says how many there were. */
export async function served(
  program: string,
  more: Record<string, string>,
): Promise<{ run: (on: boolean) => Promise<number>; stop: () => void }> {
  const child = fork(program, { env: { ...process.env, HALVIX_MEASURE: 'serve', ...more } });
  await new Promise((resolve) => child.once('message', resolve));
  return {
    run: (on) =>
      new Promise((resolve) => {
        if (!on) child.once('message', (message) => resolve((message as { made: number }).made));
        child.send({ run: on });
        if (on) resolve(0);
      }),
    stop: () => void child.kill(),
  };
}

/** What was at that part of all, in order. */
const percentile = (values: number[], part: number): number => {
  values.sort((a, b) => a - b);
  return values[Math.floor(values.length * part)] ?? NaN;
};

/** Changes that clients see while a server makes them: how late, and how many of them. */
export class Spell {
  private readonly delays: number[] = [];
  private readonly seen: number[];
  private counting = false;

  constructor(clients: number) {
    this.seen = Array.from({ length: clients }, () => 0);
  }

  /** Of one client; `expectedMs`: what each change is late by agreement. */
  note(client: number, news: ClientNews, expectedMs = 0): void {
    if (news.type !== 'readings' || !this.counting) return;
    const now = clock.now();
    for (const { event, time } of news.readings)
      if (event && time !== null) {
        this.seen[client]++;
        this.delays.push(now - time - expectedMs);
      }
  }

  /** Lets the server make changes for a while, and reports half, the 99th percentile and what is missing. */
  async measure(
    server: Awaited<ReturnType<typeof served>>,
    figures: { p50: string; p99: string; bound: number; lost: string },
  ): Promise<void> {
    await pause(2000);
    this.counting = true;
    await server.run(true);
    await pause(20_000);
    const made = await server.run(false);
    await pause(1000);
    server.stop();
    report(figures.p50, percentile(this.delays, 0.5), 'ms');
    report(figures.p99, percentile(this.delays, 0.99), 'ms', { better: 'lower', bound: figures.bound });
    const lost = this.seen.reduce((sum, one) => sum + Math.abs(made - one), 0);
    report(figures.lost, lost, 'changes', { better: 'lower', bound: 0 });
  }
}
