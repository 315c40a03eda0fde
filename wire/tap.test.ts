import { createServer } from 'node:net';
import { afterEach, expect, test } from 'vitest';
import { CallServer, TcpClient, TcpListener, UdpLink, type Call } from './index.ts';
import { Tap, tap, type Tapped } from './tap.ts';

const closers: (() => unknown)[] = [];
afterEach(async () => {
  for (const close of closers.splice(0).reverse()) await close();
});
async function until(holds: () => boolean): Promise<void> {
  for (let i = 0; i < 6000 && !holds(); i++) await new Promise((resolve) => setTimeout(resolve, 10));
  expect(holds()).toBe(true);
}
async function freePort(): Promise<number> {
  const server = createServer();
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  const address = server.address();
  await new Promise((resolve) => server.close(resolve));
  return typeof address === 'object' && address !== null ? address.port : 0;
}
function listening(): { all: Tapped[]; of: (link: string) => string[] } {
  const all: Tapped[] = [];
  closers.push(tap.listen((tapped) => all.push({ ...tapped, octets: tapped.octets.slice() })));
  const of = (link: string): string[] =>
    all
      .filter((one) => one.link === link)
      .map(({ direction, octets }) => `${direction} ${Buffer.from(octets).toString()}`);
  return { all, of };
}
const PAUSES = { connectTimeoutMs: 5000, reconnectFirstMs: 20, reconnectMaxMs: 80 };

test('a connection that we make and one that we take, both ways, with their peers', async () => {
  const port = await freePort();
  const { all, of } = listening();
  const calls: Call[] = [];
  const server = new CallServer(
    { host: '127.0.0.1', port, link: 'SERVER' },
    {
      came: (call) => calls.push(call),
      data: (call) => call.send(Buffer.from('answer')),
      ended: () => {},
      changed: () => {},
    },
  );
  closers.push(() => server.close());
  server.open();
  await until(() => server.problem === null);
  const got: string[] = [];
  const client = new TcpClient(
    { host: '127.0.0.1', port, link: 'CLIENT', ...PAUSES },
    {
      up: () => client.send(Buffer.from('question')),
      down: () => {},
      data: (o) => got.push(String(o)),
      changed: () => {},
    },
  );
  closers.push(() => client.close());
  client.open();
  await until(() => got.length > 0);
  expect(of('CLIENT')).toEqual(['out question', 'in answer']);
  expect(of('SERVER')).toEqual(['in question', 'out answer']);
  expect(all.filter(({ link }) => link === 'CLIENT').map(({ peer }) => peer)).toEqual(
    Array(2).fill(`127.0.0.1:${port}`),
  );
  expect(new Set(all.filter(({ link }) => link === 'SERVER').map(({ peer }) => peer))).toEqual(
    new Set([calls[0].from]),
  );
  expect(all.every(({ at }) => Math.abs(at - Date.now()) < 60_000)).toBe(true);
});

test('datagrams, and a listener for one peer', async () => {
  const [a, b, port] = [await freePort(), await freePort(), await freePort()];
  const { of } = listening();
  const got: string[] = [];
  const end = (port: number, localPort: number, link: string): UdpLink =>
    new UdpLink(
      { host: '127.0.0.1', port, localPort, link, ...PAUSES },
      { up: () => {}, down: () => {}, data: (o) => got.push(String(o)), changed: () => {} },
    );
  const [one, other] = [end(a, b, 'ONE'), end(b, a, 'OTHER')];
  for (const link of [one, other]) {
    closers.push(() => link.close());
    link.open();
  }
  await until(() => one.state.state === 'connected' && other.state.state === 'connected');
  one.send(Buffer.from('datagram'));
  await until(() => got.length > 0);
  expect([of('ONE'), of('OTHER')]).toEqual([['out datagram'], ['in datagram']]);

  const listener = new TcpListener(
    { host: '127.0.0.1', port, quietMs: 1000, link: 'LISTENER' },
    {
      up: () => {},
      down: () => {},
      data: () => listener.send(Buffer.from('yes')),
      refused: () => {},
      changed: () => {},
    },
  );
  closers.push(() => listener.close());
  listener.open();
  const caller = new TcpClient(
    { host: '127.0.0.1', port, ...PAUSES },
    {
      up: () => caller.send(Buffer.from('there?')),
      down: () => {},
      data: (o) => got.push(String(o)),
      changed: () => {},
    },
  );
  closers.push(() => caller.close());
  caller.open();
  await until(() => got.includes('yes'));
  expect(of('LISTENER')).toEqual(['in there?', 'out yes']);
});

test('whoever listens and fails is in nobody’s way; what is of no link, or not listened to, is nobody’s', () => {
  const own = new Tap();
  const heard: string[] = [];
  own.pass('L', 'p', 'in', new Uint8Array(1));
  const stop = own.listen(() => {
    throw new Error('no');
  });
  own.listen(({ link }) => heard.push(link));
  own.pass('L', 'p', 'in', new Uint8Array(1));
  own.pass(undefined, 'p', 'in', new Uint8Array(1));
  own.pass('', 'p', 'in', new Uint8Array(1));
  stop();
  own.pass('M', 'p', 'out', new Uint8Array(1));
  expect([heard, own.failures]).toEqual([['L', 'M'], 1]);
});
