import { OBJECT_SCHEMAS, type LinkConfig, type OutboundConfig } from '@halvix/core/config';
import { fromHex } from '@halvix/core/bytes';
import { encodeFrame } from '@halvix/core/protocols/modbus';
import { clientSide } from '@halvix/core/protocols/sessions';
import { connect, createServer, type Socket } from 'node:net';
import { connect as connectTls } from 'node:tls';
import { readFileSync } from 'node:fs';
import { afterEach, beforeAll, describe, expect, test } from 'vitest';
import { encodeTpdu } from '../../core/protocols/mms/wire/cotp.ts';
import { encodeTpkt } from '../../core/protocols/mms/wire/tpkt.ts';
import { OutboundLink, type OutboundMember } from './outboundlink.ts';
import { Certificates, Closers, freePort, pause, terminals, until } from '../testing/wires.ts';

const closers = new Closers();
afterEach(() => closers.close());

const linkOf = (config: object): LinkConfig =>
  OBJECT_SCHEMAS.link.parse({ code: 'L', name: 'link', reconnectFirstMs: 50, reconnectMaxMs: 200, ...config });
const dnp3 = (theirAddress: number, more: object = {}): OutboundConfig => ({
  ...OBJECT_SCHEMAS.outbound.parse({
    ...{ code: `C${theirAddress}`, name: 'centre', centre: 'Centre', link: 'L', protocol: 'dnp3' },
    settings: { ourAddress: 10, theirAddress },
    ...more,
  }),
  mappings: [],
});
const modbus = (unitId: number): OutboundConfig => ({
  ...OBJECT_SCHEMAS.outbound.parse({
    ...{ code: `U${unitId}`, name: 'third party', centre: 'Third party', link: 'L', protocol: 'modbus' },
    settings: { unitId },
  }),
  mappings: [],
});

const agreement = (code: string, allowFrom: string[], transportSelector = '0001'): OutboundConfig => ({
  ...OBJECT_SCHEMAS.outbound.parse({
    ...{ code, name: 'neighbour', centre: 'Neighbour', link: 'L', protocol: 'tase2', allowFrom },
    settings: { transportSelector },
  }),
  mappings: [],
});
/** The first message of a caller that wants that transport selector. */
const calling = (called: string): Uint8Array =>
  encodeTpkt(
    encodeTpdu({ type: 'connectRequest', destination: 0, source: 1, class: 0, size: 8192, called: fromHex(called) }),
  );

/** What a link tells an outbound: who came and went, and what they said. */
class Told implements OutboundMember {
  readonly lines: string[] = [];
  octets: number[] = [];
  constructor(readonly config: OutboundConfig) {}
  up = (_peer: number, from: string, address: string | null): void => void this.lines.push(`up ${from} ${address}`);
  down = (): void => void this.lines.push('down');
  data = (_peer: number, bytes: Uint8Array): void => void this.octets.push(...bytes);
  refused = (words: string): void => void this.lines.push(words);
  changed = (): void => {};
}

function open(config: LinkConfig, ...members: Told[]): OutboundLink {
  const link = new OutboundLink(config, () => {});
  for (const member of members) link.add(member);
  closers.push(() => link.close());
  return link;
}
/** A first frame of the master at that address. */
const hello = (theirAddress: number): Uint8Array =>
  clientSide('dnp3').question({ ourAddress: theirAddress, theirAddress: 10 } as never) ?? new Uint8Array(0);
const request = (transaction: number, unit: number): Uint8Array =>
  encodeFrame('tcp', transaction, unit, Uint8Array.of(3, 0, 0, 0, 1));

async function callTo(port: number, localAddress?: string): Promise<{ socket: Socket; received: number[] }> {
  const received: number[] = [];
  const socket = connect({ port, host: '127.0.0.1', localAddress });
  socket.on('error', () => {});
  socket.on('data', (bytes) => received.push(...bytes));
  socket.setNoDelay(true);
  closers.push(() => socket.destroy());
  await new Promise((resolve) => socket.once('connect', resolve));
  return { socket, received };
}
const slowly = async (bytes: Uint8Array, write: (piece: Uint8Array) => void): Promise<void> => {
  for (const octet of bytes) {
    write(Uint8Array.of(octet));
    await pause(5);
  }
};

describe('a serial line to centres', () => {
  test('each of two is connected by its own address, from its first frame on, and hears all of it', async () => {
    const { ours, far } = await terminals(closers);
    const [one, two] = [new Told(dnp3(100)), new Told(dnp3(101))];
    const link = open(linkOf({ type: 'serial', serialPort: ours, line: { bitRate: 9600 } }), one, two);
    await until('it is open', () => link.problem === null);
    expect(link.state()).toMatchObject({ state: 'connected', endpoint: ours });
    await slowly(hello(101), (piece) => far.write(piece));
    await until('the second is connected', () => two.lines.length === 1);
    expect([one.lines, two.lines]).toEqual([[], [`up ${ours} null`]]);
    expect(two.octets).toEqual([...hello(101)]);
    const heard: number[] = [];
    far.on('data', (bytes: Buffer) => heard.push(...bytes));
    link.send(two, Uint8Array.of(1, 2, 3));
    link.send(one, Uint8Array.of(9));
    await until('the answer is on the line', () => heard.length >= 3);
    expect(heard).toEqual([1, 2, 3]);
    far.write(hello(100));
    await until('the first is too', () => one.lines.length === 1);
  });

  test('who has said nothing for as long as the link allows is not connected any more, and comes back', async () => {
    const { ours, far } = await terminals(closers);
    const member = new Told(dnp3(100));
    const calls = { lateAfterMs: 700 };
    const link = open(linkOf({ type: 'serial', serialPort: ours, line: { bitRate: 9600 }, calls }), member);
    await until('it is open', () => link.problem === null);
    far.write(hello(100));
    await until('it is connected', () => member.lines.length === 1);
    await until('it is not', () => member.lines.length === 2);
    far.write(hello(100));
    await until('it is again', () => member.lines.length === 3);
    expect(member.lines.map((line) => line.split(' ')[0])).toEqual(['up', 'down', 'up']);
  });

  test('a port that is not there says so, and is opened when it comes', async () => {
    const member = new Told(dnp3(100));
    const link = open(linkOf({ type: 'serial', serialPort: '/dev/not-there', line: { bitRate: 9600 } }), member);
    await until('it says why', () => link.problem !== null && link.problem !== 'not connected yet');
    expect(link.state().state).not.toBe('connected');
    expect(member.lines).toEqual([]);
  });
});

test('a connection that we make to the centre is made again when it ends', async () => {
  const port = await freePort();
  const sockets: Socket[] = [];
  const server = createServer((socket) => {
    socket.on('error', () => {});
    sockets.push(socket);
    socket.write(hello(100));
  }).listen(port, '127.0.0.1');
  closers.push(() => server.close());
  closers.push(() => sockets.forEach((socket) => socket.destroy()));
  const member = new Told(dnp3(100));
  open(linkOf({ type: 'tcpClient', host: '127.0.0.1', port }), member);
  await until('it is connected', () => member.lines.length === 1);
  sockets[0].destroy();
  await until('it is again', () => member.lines.length === 3);
  expect(member.lines.map((line) => line.split(' ')[0])).toEqual(['up', 'down', 'up']);
});

describe('a port of ours', () => {
  test('of a first request in pieces nothing is lost, whatever stood before it; what is kept is bounded', async () => {
    const port = await freePort();
    const [one, two] = [new Told(modbus(5)), new Told(modbus(6))];
    const link = open(linkOf({ type: 'tcpServer', port, protocol: 'modbus', framing: 'tcp' }), one, two);
    await until('it listens', () => link.problem === null);
    const { socket } = await callTo(port);
    // Requests to a unit that is nobody's.
    for (let n = 0; n < 300; n++) {
      socket.write(request(n, 99));
      if (n % 50 === 49) await pause(20);
    }
    await slowly(request(77, 6), (piece) => socket.write(piece));
    await until('it is the second', () => two.lines.length === 1);
    expect(two.octets.slice(-12)).toEqual([...request(77, 6)]);
    expect(two.octets.length).toBeLessThanOrEqual(1024 + 4096);
    expect([one.lines, one.octets]).toEqual([[], []]);
  });

  test('a second one on the same connection misses nothing of its first request either, and nothing comes twice', async () => {
    const port = await freePort();
    const [one, two] = [new Told(modbus(5)), new Told(modbus(6))];
    const link = open(linkOf({ type: 'tcpServer', port, protocol: 'modbus', framing: 'tcp' }), one, two);
    await until('it listens', () => link.problem === null);
    const { socket } = await callTo(port);
    await slowly(request(1, 5), (piece) => socket.write(piece));
    await slowly(request(2, 6), (piece) => socket.write(piece));
    await until('both are connected', () => two.lines.length === 1);
    expect(two.octets).toEqual([...request(2, 6)]);
    // All that comes on a connection is shown to all who are on it: each looks for its own.
    expect(one.octets.slice(0, 12)).toEqual([...request(1, 5)]);
    expect(one.octets.length).toBeLessThanOrEqual(24);
  });

  test('the name in the certificate is asked for only where the link has TLS; a place that is not allowed is refused', async () => {
    const port = await freePort();
    const [open_, shut] = [new Told(dnp3(100)), new Told(dnp3(101, { allowFrom: ['10.9.0.0/16'] }))];
    const link = open(linkOf({ type: 'tcpServer', port }), open_, shut);
    await until('it listens', () => link.problem === null);
    const { socket } = await callTo(port);
    socket.write(hello(101));
    await until('it is refused', () => shut.lines.length === 1);
    expect(shut.lines[0]).toContain('its network is not allowed');
    const again = await callTo(port);
    again.socket.write(hello(100));
    await until('the other one is let in', () => open_.lines.length === 1);
    expect(link.state().state).toBe('connected');
  });
});

describe('several agreements behind one port', () => {
  const lines = (member: Told): string[] => member.lines.map((line) => line.split(' ')[0]);

  test('each has those that call from its networks, by its selector, and nobody else', async () => {
    const port = await freePort();
    const one = new Told(agreement('ONE', ['127.0.0.2']));
    const two = new Told(agreement('TWO', ['127.0.0.3']));
    const other = new Told(agreement('OTHER', ['127.0.0.2'], '0002'));
    const link = open(linkOf({ type: 'tcpServer', protocol: 'tase2', port }), one, two, other);
    await until('it listens', () => link.problem === null);
    const second = await callTo(port, '127.0.0.3');
    await slowly(calling('0001'), (piece) => second.socket.write(piece));
    await until('the second one is there', () => two.lines.length === 1);
    // What came before it was known is not lost.
    await until('with all octets', () => two.octets.length === calling('0001').length);
    const first = await callTo(port, '127.0.0.2');
    first.socket.write(calling('0001'));
    await until('the first one is there', () => one.lines.length === 1);
    const third = await callTo(port, '127.0.0.2');
    third.socket.write(calling('0002'));
    await until('the other selector', () => other.lines.length === 1);
    // Its data goes on to it, whatever it looks like.
    second.socket.write(calling('0002'));
    await until('more of it', () => two.octets.length === 2 * calling('0001').length);
    expect([one, two, other].map(lines)).toEqual([['up'], ['up'], ['up']]);
    expect([one.octets, other.octets]).toEqual([[...calling('0001')], [...calling('0002')]]);
    second.socket.destroy();
    await until('it has gone', () => lines(two).join() === 'up,down');
    expect([one, other].map(lines)).toEqual([['up'], ['up']]);
  });

  test('whoever calls by the selector of somebody else is refused in words, and a stranger at the door', async () => {
    const port = await freePort();
    const one = new Told(agreement('ONE', ['127.0.0.2']));
    const two = new Told(agreement('TWO', ['127.0.0.3'], '0002'));
    const link = open(linkOf({ type: 'tcpServer', protocol: 'tase2', port }), one, two);
    await until('it listens', () => link.problem === null);
    const wrong = await callTo(port, '127.0.0.3');
    let ended = 0;
    wrong.socket.on('close', () => ended++);
    wrong.socket.write(calling('0001'));
    await until('it is refused', () => ended === 1);
    expect(one.lines).toEqual(['connection from 127.0.0.3 refused: its network is not allowed']);
    const stranger = await callTo(port, '127.0.0.4');
    stranger.socket.on('close', () => ended++);
    await until('so is a stranger', () => ended === 2);
    expect(two.lines).toEqual(['connection from 127.0.0.4 refused: its network is not allowed']);
  });
});

describe('a port of ours with certificates of both ends', () => {
  let certificates: Certificates;
  beforeAll(() => {
    certificates = new Certificates(['engine', 'quillstone', 'ambry']);
    return () => certificates.remove();
  });

  async function callAs(name: string, port: number, first: Uint8Array): Promise<() => boolean> {
    const socket = connectTls({
      ...{ port, host: '127.0.0.1', servername: 'engine.test' },
      ca: readFileSync(certificates.pem('authority')),
      cert: readFileSync(certificates.pem(name)),
      key: readFileSync(certificates.pem(`${name}-key`)),
    });
    let ended = false;
    socket.on('error', () => {});
    socket.on('close', () => (ended = true));
    closers.push(() => socket.destroy());
    await new Promise((resolve) => socket.once('secureConnect', resolve).once('close', resolve));
    socket.write(first);
    return () => ended;
  }

  test('each centre shows its own; a stranger, and who only looks, leave the port as it was', async () => {
    const port = await freePort();
    const one = new Told(dnp3(100, { peerName: 'quillstone.test' }));
    const two = new Told(dnp3(101, { peerName: 'ambry.test' }));
    const link = open(linkOf({ type: 'tcpServer', port, tls: certificates.tls('engine') }), one, two);
    await until('it listens', () => link.problem === null);

    const impostor = await callAs('impostor', port, hello(100));
    await until('it is refused', () => one.lines.length === 1 && impostor());
    expect(one.lines[0]).toBe('a caller was refused: its certificate is not from our authority, or it went away');
    const { socket } = await callTo(port);
    socket.write('GET / HTTP/1.1');
    await until('whoever speaks no TLS is too', () => one.lines.length === 2);
    expect([link.problem, link.state().state]).toEqual([null, 'resting']);
    // Neither takes a place any more.
    const { server } = link as unknown as { server: { calls: number } };
    socket.destroy();
    await until('nobody is connected', () => server.calls === 0);

    // The other centre, with the first one's addresses.
    const other = await callAs('ambry', port, hello(100));
    await until('it is refused', other);
    expect(one.lines[2]).toMatch(
      /^connection from 127.0.0.1 refused: its certificate is of .*, not of quillstone.test$/,
    );

    await callAs('quillstone', port, hello(100));
    await callAs('ambry', port, hello(101));
    await until('two take a place', () => server.calls === 2);
    await until('both are connected', () => one.lines.length === 4 && two.lines.some((line) => line.startsWith('up')));
    expect(one.lines[3]).toMatch(/^up 127.0.0.1:/);
    expect(link.state().state).toBe('connected');
  });
});

describe('a connection of ours on which we speak first', () => {
  test('is its outbounds’ as soon as it stands, and whose comes later is there at once', async () => {
    const callers: Socket[] = [];
    const heard: number[] = [];
    const server = createServer((socket) => {
      callers.push(socket);
      socket.on('data', (bytes) => heard.push(...bytes));
      socket.on('error', () => {});
    });
    closers.push(() => void server.close());
    const port = await freePort();
    await new Promise<void>((resolve) => server.listen(port, '127.0.0.1', resolve));
    const first = new Told(modbus(1));
    const link = new OutboundLink(
      linkOf({ type: 'tcpClient', protocol: 'modbus', framing: 'tcp', port }),
      () => {},
      true,
    );
    closers.push(() => link.close());
    link.add(first);
    await until('it is so', () => first.lines.length === 1);
    link.send(first, Uint8Array.of(1, 2, 3));
    await until('it is so', () => heard.length === 3);
    const second = new Told(modbus(2));
    link.add(second);
    expect([first.lines, second.lines]).toEqual([[`up 127.0.0.1:${port} null`], [`up 127.0.0.1:${port} null`]]);
    callers[0].write(Uint8Array.of(9));
    await until('it is so', () => first.octets.length === 1 && second.octets.length === 1);
    callers[0].destroy();
    await until('it is so', () => first.lines.length === 3);
    expect(first.lines.slice(1)).toEqual(['down', `up 127.0.0.1:${port} null`]);
  });
});
