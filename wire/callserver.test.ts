import { connect, type Socket } from 'node:net';
import { afterEach, expect, test } from 'vitest';
import { CallServer, type Call, type CallServerEvents } from './index.ts';

const closers: (() => unknown)[] = [];
afterEach(async () => {
  for (const close of closers.splice(0)) await close();
});
async function until(what: string, holds: () => boolean): Promise<void> {
  for (let i = 0; i < 3000 && !holds(); i++) await new Promise((resolve) => setTimeout(resolve, 5));
  expect(holds(), what).toBe(true);
}
const PORT = 23_091;

async function serve(events: Partial<CallServerEvents> = {}): Promise<CallServer> {
  const server = new CallServer(
    { host: '127.0.0.1', port: PORT },
    { came: () => {}, data: () => {}, ended: () => {}, changed: () => {}, ...events },
  );
  server.open();
  closers.push(() => server.close());
  await until('it listens', () => server.problem === null);
  return server;
}
function call(): Socket & { isOver?: boolean } {
  const socket: Socket & { isOver?: boolean } = connect(PORT, '127.0.0.1');
  socket.on('error', () => {});
  socket.on('close', () => (socket.isOver = true));
  closers.push(() => socket.destroy());
  return socket;
}

test('callers that say nothing have a share of their own; who is known keeps his place', async () => {
  const calls: Call[] = [];
  const refused: string[] = [];
  const server = await serve({
    came: (one) => {
      calls.push(one);
      if (calls.length === 1) one.known();
    },
    refused: (words) => void refused.push(words),
  });
  const known = call();
  await until('the first is there', () => calls.length === 1);
  const idle: ReturnType<typeof call>[] = [];
  for (let n = 0; n < 130; n++) {
    idle.push(call());
    await until('it is there', () => calls.length === n + 2);
  }
  await until('the oldest two are ended', () => idle[0].isOver === true && idle[1].isOver === true);
  expect(known.isOver).toBeUndefined();
  expect(idle.slice(2).every(({ isOver }) => isOver === undefined)).toBe(true);
  expect(refused).toEqual(
    Array.from({ length: 2 }, () => 'connection from 127.0.0.1 ended: too many from there have not shown who they are'),
  );
  await until('they are counted', () => server.calls === 129);
});

test('one that sends without end does not keep the others waiting', async () => {
  const heard = new Map<Call, number>();
  let waits: ((ms: number) => void) | null = null;
  const asked = { at: 0 };
  let quiet: Call | null = null;
  await serve({
    came: (one) => void heard.set(one, 0),
    data: (one, octets) => {
      heard.set(one, (heard.get(one) ?? 0) + octets.length);
      if (octets.length === 1) {
        quiet = one;
        waits?.(performance.now() - asked.at);
        return;
      }
      // So much work is a request to it, each 12 octets.
      for (const end = performance.now() + octets.length / 1200; performance.now() < end;);
    },
  });
  const flood = call();
  const block = Buffer.alloc(1 << 20);
  const pump = (): void => {
    while (!flood.destroyed && flood.write(block));
  };
  flood.on('drain', pump);
  flood.on('connect', pump);
  await until('it floods', () => [...heard.values()].some((octets) => octets > 200_000));
  const other = call();
  await until('the other is there', () => heard.size === 2);
  // What has come of the flood by then would take a second; a share of it goes first.
  const floodCall = [...heard.keys()][0];
  for (let n = 0; n < 5; n++) {
    const before = heard.get(floodCall) ?? 0;
    asked.at = performance.now();
    await new Promise<number>((resolve) => {
      waits = resolve;
      other.write('x');
    });
    expect((heard.get(floodCall) ?? 0) - before).toBeLessThan(200_000);
  }
  expect(quiet).not.toBeNull();
});
