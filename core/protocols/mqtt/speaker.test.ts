import { describe, expect, test } from 'vitest';
import type { Speaker } from '../decoder.ts';
import type { ToldValue } from '../publishing/form.ts';
import type { ServerCommand, ServerEffect, ServerPoint } from '../server.ts';
import { NOTHING_REMEMBERED } from '../server.ts';
import { decoder as decoderSide } from './decoder.ts';
import { messages } from './payload.ts';
import { publisher } from './sessions.ts';
import { publisherSettings, type PublisherSettings } from './settings.ts';
import { placeOf, printed, targetAtSchema, targets, type BrokerTargetAt } from './target.ts';
import { octetsOf, PacketReader, type Packet, type Version } from './wire/packets.ts';

const NOW = Date.UTC(2096, 0, 1);
const at = (name: string, topic = 'north/HLM'): BrokerTargetAt =>
  targetAtSchema.parse({ protocol: 'mqtt', topic, name });
const POINTS: ServerPoint<BrokerTargetAt>[] = [
  { kind: 'analog', at: at('AI 7'), deadband: 0 },
  { kind: 'binary', at: at('BI 3'), deadband: 0 },
  { kind: 'analog', at: at('AI 1', 'south/ALD'), deadband: 0 },
];

/** Our client, and a broker of the test's own that reads what goes out by the library. */
class Bench {
  readonly server;
  readonly came: Packet[] = [];
  readonly words: string[] = [];
  readonly hungUp: string[] = [];
  now = NOW;
  private reader: PacketReader;
  private readonly version: Version;
  /** Acknowledges by itself. */
  acknowledges = true;

  constructor(settings: Partial<PublisherSettings> = {}) {
    const all = publisherSettings.parse({ afterMs: 0, keepAliveS: 30, ...settings });
    this.version = all.version === '5' ? 5 : 4;
    this.reader = new PacketReader(this.version);
    const link = { framing: '', octetMs: 0 };
    this.server = publisher.make(all, link, POINTS, NOW, NOTHING_REMEMBERED);
  }

  up(connack: object | null = {}): this {
    this.reader = new PacketReader(this.version);
    this.server.start(this.now);
    this.settle();
    if (connack !== null) this.say({ cmd: 'connack', returnCode: 0, reasonCode: 0, sessionPresent: false, ...connack });
    return this;
  }
  down(): this {
    this.server.stop(this.now);
    this.settle();
    return this;
  }
  say(packet: object): this {
    this.server.receive(octetsOf(packet as Packet, this.version), this.now);
    this.settle();
    return this;
  }
  command(command: ServerCommand<BrokerTargetAt>): this {
    this.server.command(command, this.now);
    this.settle();
    return this;
  }
  set(name: string, value: number, topic?: string): this {
    const point = POINTS.find((one) => one.at.name === name) as ServerPoint<BrokerTargetAt>;
    const update = { kind: point.kind, at: at(name, topic ?? point.at.topic), value, quality: 0, time: this.now };
    return this.command({ type: 'update', updates: [update] });
  }
  run(ms: number): this {
    for (const until = this.now + ms; ;) {
      const { deadline } = this.server;
      if (deadline === null || deadline > until) {
        this.now = until;
        return this;
      }
      this.now = Math.max(this.now, deadline);
      this.server.wake(this.now);
      this.settle();
    }
  }
  private settle(): void {
    const stored: number[] = [];
    for (const effect of this.server.take()) this.onEffect(effect, stored);
    if (stored.length > 0) this.command({ type: 'stored', numbers: stored });
  }
  private onEffect(effect: ServerEffect, stored: number[]): void {
    if (effect.type === 'owes') stored.push(effect.number);
    if (effect.type === 'diagnostic') this.words.push(effect.words);
    if (effect.type === 'hangUp') this.hungUp.push(effect.words ?? '');
    if (effect.type !== 'send') return;
    const read = this.reader.push(effect.octets);
    if (!read.ok) throw new Error(read.problem);
    this.came.push(...read.value.map(({ packet }) => packet));
    for (const { packet } of read.value)
      if (this.acknowledges && packet.cmd === 'publish') this.say({ cmd: 'puback', messageId: packet.messageId });
      else if (packet.cmd === 'pingreq' && this.acknowledges) this.say({ cmd: 'pingresp' });
  }
  get published(): { topic: string; content: unknown }[] {
    return this.came.flatMap((packet) =>
      packet.cmd === 'publish' ? [{ topic: packet.topic, content: JSON.parse(String(packet.payload)) as unknown }] : [],
    );
  }
}

describe.each([['5'], ['3.1.1']] as const)('MQTT %s', (version) => {
  test('signs in with what it is told, and nothing goes out before it is let in', () => {
    const bench = new Bench({ version, clientId: 'hal-1', user: 'ada', password: 'sluice' }).set('AI 7', 1).up(null);
    expect(bench.came).toMatchObject([
      {
        cmd: 'connect',
        clientId: 'hal-1',
        username: 'ada',
        clean: true,
        keepalive: 30,
        protocolVersion: version === '5' ? 5 : 4,
      },
    ]);
    expect(String((bench.came[0] as { password?: unknown }).password)).toBe('sluice');
    expect(bench.published).toEqual([]);
    bench.say({ cmd: 'connack', returnCode: 0, reasonCode: 0, sessionPresent: false });
    expect(bench.published).toEqual([
      { topic: 'north/HLM', content: { id: expect.any(Number) as number, time: NOW, values: { 'AI 7': 1 } } },
    ]);
    expect(bench.server.counters.values).toMatchObject({ values: 1, packets: 1, failures: 0 });
  });

  test('a broker that does not let us in says why, in words', () => {
    const bench = new Bench({ version }).up({ returnCode: 4, reasonCode: 0x86 });
    expect(bench.hungUp).toEqual([
      `the broker does not let us in: user or password is wrong (${version === '5' ? '0x86' : 'return code 4'})`,
    ]);
  });

  test('what is not acknowledged when the connection ends goes out again on the next one, the same to the octet', () => {
    const bench = new Bench({ version }).up();
    bench.acknowledges = false;
    bench.set('AI 7', 1).set('AI 7', 2);
    expect(bench.published).toHaveLength(1);
    bench.down().run(500).up();
    expect(bench.published[1]).toEqual(bench.published[0]);
    bench.acknowledges = true;
    bench.down().up().run(10);
    expect(bench.published.map(({ content }) => (content as { values: object }).values)).toEqual([
      ...[{ 'AI 7': 1 }, { 'AI 7': 1 }, { 'AI 7': 1 }],
      { 'AI 7': 2 },
    ]);
    expect(bench.server.eventsWaiting).toBe(0);
  });

  test('it is heard while nothing changes, and a broker that does not answer is given up', () => {
    const bench = new Bench({ version }).up().run(95_000);
    expect(bench.came.filter(({ cmd }) => cmd === 'pingreq')).toHaveLength(3);
    bench.acknowledges = false;
    bench.run(60_000);
    expect(bench.hungUp).toEqual(['no answer to a ping for 20 s']);
    const silent = new Bench({ version }).up(null).run(21_000);
    expect(silent.hungUp).toEqual(['no answer to the wish to sign in for 20 s']);
    const deaf = new Bench({ version }).up();
    deaf.acknowledges = false;
    deaf.set('AI 7', 1).run(21_000);
    expect(deaf.hungUp).toEqual(['no answer to a message for 20 s']);
  });

  test('says that it is there, in front of the first value, and has its last words ready', () => {
    const bench = new Bench({ version, willTopic: 'north/state' }).set('AI 7', 1).up();
    expect(bench.came[0]).toMatchObject({ will: { topic: 'north/state', retain: true, qos: 1 } });
    expect(bench.came.slice(1).map((packet) => packet.cmd === 'publish' && [packet.topic, packet.retain])).toEqual([
      ['north/state', true],
      ['north/HLM', false],
    ]);
    expect(String((bench.came[1] as { payload?: unknown }).payload)).toBe('online');
    // The broker has said that we are gone: whoever comes back says that this is over.
    bench.down().up();
    expect(bench.came.slice(-1)).toMatchObject([{ cmd: 'publish', topic: 'north/state' }]);
    // They are true once we have gone in order, too: 3.1.1 has no goodbye that says so.
    bench.command({ type: 'rest' });
    expect(bench.came.at(-1)).toMatchObject(
      version === '5' ? { cmd: 'disconnect', reasonCode: 4 } : { cmd: 'publish' },
    );
    const without = new Bench({ version }).up().command({ type: 'rest' });
    expect(without.came.at(-1)).toMatchObject({ cmd: 'disconnect' });
  });

  test('whatever comes in place of an answer ends the connection, and nothing else', () => {
    for (const octets of [
      [0xff, 0xff, 0xff, 0xff, 0xff],
      [0x30, 0xff, 0xff, 0xff, 0x7f],
      [0x20, 0x00],
      [0x90, 0x02, 0, 1],
      [0x00, 0x00],
      [0x82, 0x03, 0, 1, 0],
      [0x48, 0x54, 0x54, 0x50, 0x2f, 0x31],
    ]) {
      const bench = new Bench({ version }).up();
      bench.server.receive(Uint8Array.from(octets), bench.now);
      bench.down().set('AI 7', 5).up();
      expect(bench.published, String(octets)).toMatchObject([{ content: { values: { 'AI 7': 5 } } }]);
    }
  });

  test('connections that end again and again soon after they stood have a cause', () => {
    const bench = new Bench({ version, clientId: 'twin' });
    for (let n = 0; n < 3; n++) bench.up().run(2000).down();
    expect(bench.words.at(-1)).toMatch(/3 connections in a row .* does another client use the client id twin\?/);
  });
});

test('a message has one time and named values, a topic for itself, in the order of their ids', () => {
  const bench = new Bench({ afterMs: 100 }).up();
  bench.set('AI 7', 1.5).set('BI 3', 1).set('AI 1', -2);
  bench.run(50).set('AI 7', 2.5).run(100);
  const [first, second] = bench.published;
  expect(first).toEqual({
    topic: 'north/HLM',
    content: [
      { id: expect.any(Number) as number, time: NOW, values: { 'AI 7': 1.5, 'BI 3': true } },
      { id: expect.any(Number) as number, time: NOW + 50, values: { 'AI 7': 2.5 } },
    ],
  });
  expect(second).toMatchObject({ topic: 'south/ALD', content: { values: { 'AI 1': -2 } } });
});

test('a packet has come once all of its messages have, and what the broker refuses is said and tried again', () => {
  const bench = new Bench({ afterMs: 100 }).up();
  bench.acknowledges = false;
  bench.set('AI 7', 1).set('AI 1', 2).run(100);
  const [one, two] = bench.came.filter(({ cmd }) => cmd === 'publish');
  bench.say({ cmd: 'puback', messageId: one.messageId });
  expect(bench.server.eventsWaiting).toBe(2);
  bench.say({ cmd: 'puback', messageId: two.messageId, reasonCode: 0x87 });
  expect(bench.words).toEqual(['the broker does not take what goes to south/ALD: that is not allowed (0x87)']);
  expect(bench.server.eventsWaiting).toBe(2);
  bench.acknowledges = true;
  bench.run(2000);
  expect([bench.server.eventsWaiting, bench.published.length]).toEqual([0, 4]);
});

test('no more is under way than the broker takes, and nothing longer goes out', () => {
  const bench = new Bench({ afterMs: 100 }).up({ properties: { receiveMaximum: 1, maximumPacketSize: 60 } });
  bench.acknowledges = false;
  bench.set('AI 7', 1).set('AI 1', 2).run(100);
  const under = bench.came.filter(({ cmd }) => cmd === 'publish');
  expect(under).toHaveLength(0);
  expect(bench.words[0]).toMatch(/^a packet of \d+ octets is longer than the 60 that the broker takes$/);
  const narrow = new Bench({ afterMs: 100 }).up({ properties: { receiveMaximum: 1 } });
  narrow.acknowledges = false;
  narrow.set('AI 7', 1).set('AI 1', 2).run(100);
  const [first] = narrow.came.filter(({ cmd }) => cmd === 'publish');
  expect(narrow.published).toHaveLength(1);
  narrow.say({ cmd: 'puback', messageId: first.messageId });
  expect(narrow.published).toHaveLength(2);
});

test('a broker that has ended the connection in words is quoted', () => {
  const bench = new Bench({ version: '5' }).up().say({ cmd: 'disconnect', reasonCode: 0x8e });
  expect(bench.hungUp).toEqual([
    'the broker has ended the connection: another client has connected with the same client id (0x8E)',
  ]);
});

test('what nobody has asked for is acknowledged, and changes nothing', () => {
  const bench = new Bench().up();
  bench.say({ cmd: 'publish', qos: 1, messageId: 5, topic: 'x', payload: 'y', dup: false, retain: false });
  bench.say({ cmd: 'publish', qos: 2, messageId: 6, topic: 'x', payload: 'y', dup: false, retain: false });
  bench.say({ cmd: 'pubrel', messageId: 6 });
  expect(bench.came.slice(1).map(({ cmd, messageId }) => [cmd, messageId])).toEqual([
    ['puback', 5],
    ['pubrec', 6],
    ['pubcomp', 6],
  ]);
  expect(bench.set('AI 7', 1).published).toHaveLength(1);
});

test.each(['', '#', '+/#', ' ', '\u0007', 'north/{device}', '<b>', 'x'.repeat(300)])(
  'whatever stands in a rule, a place comes of it: %j',
  (topic) => {
    const place = targets.propose('analog', 3, 'raw', { topic }, { device: 'HLM-F1', point: '<i>7' });
    expect(targetAtSchema.parse(place)).toEqual(place);
    expect(placeOf(printed(place))).toEqual({ topic: place.topic, name: place.name });
  },
);

test('a point may be called anything in a message', () => {
  const told = { number: 1, kind: 'analog', value: 1, text: null, quality: 0, time: 5, unsynchronised: true };
  const value = (name: string, value_: number): ToldValue =>
    ({ ...told, address: `t#${name}`, value: value_, name: '', unit: '' }) as ToldValue;
  const [message] = messages({
    number: 1,
    dropped: 2,
    values: [value('__proto__', 1), value('a#b', 0.1 + 0.2), value('c', Infinity)],
  });
  expect(new TextDecoder().decode(message.octets)).toBe(
    '{"id":1,"time":5,"clock":"not set","values":{"__proto__":1,"a#b":0.3,"c":null},"dropped":2}',
  );
});

describe.each([['5'], ['3.1.1']] as const)('the decoder, %s', (version) => {
  test('has each packet in words, with its own octets, in whatever pieces they come', () => {
    const decoder = decoderSide.make('');
    const code = version === '5' ? 5 : 4;
    const said: [Speaker, object][] = [
      [
        'asking',
        { cmd: 'connect', protocolId: 'MQTT', protocolVersion: code, clientId: 'c', clean: true, keepalive: 9 },
      ],
      ['asked', { cmd: 'connack', returnCode: 5, reasonCode: 0x87, sessionPresent: false }],
      ['asking', { cmd: 'publish', qos: 1, messageId: 3, topic: 'a/b', payload: '{}', dup: true, retain: false }],
      ['asked', { cmd: 'puback', messageId: 3 }],
      ['asking', { cmd: 'pingreq' }],
    ];
    const heard = said.flatMap(([side, packet]) => {
      const octets = octetsOf(packet as Packet, code);
      const found = [...octets].flatMap((octet) => decoder.push(Uint8Array.of(octet), side, 7));
      expect(found.map((one) => [...one.octets])).toEqual([[...octets]]);
      return found;
    });
    expect(heard.map(({ words, isOdd }) => [words, isOdd])).toEqual([
      ['CONNECT, client id c', false],
      [expect.stringMatching(/^CONNACK: this client is not allowed in/), true],
      ['PUBLISH to a/b, again', false],
      ['PUBACK 3', false],
      ['PINGREQ', false],
    ]);
    expect(decoder.push(Uint8Array.of(0x30, 0xff, 0xff, 0xff, 0xff), 'asked', 8)).toMatchObject([{ isOdd: true }]);
    expect(decoder.push(octetsOf({ cmd: 'pingresp' }, code), 'asked', 9)).toMatchObject([{ words: 'PINGRESP' }]);
  });
});
