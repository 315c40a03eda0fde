import { configurationSchema, type LinkConfig, type OutboundConfig } from '@halvix/core/config';
import { CENTRE_SILENT_MS } from '@halvix/core/path';
import { Quality, type Reading } from '@halvix/core/point';
import {
  NOTHING_REMEMBERED,
  outcome,
  type CentreOrder,
  type ControlOutcome,
  type ServerCommand,
  type ServerEffect,
  type TargetPointAt,
} from '@halvix/core/protocols';
import { afterEach, beforeEach, describe, expect, test, vi } from 'vitest';
import { Exchange } from '../board/exchange.ts';
import type { CentreControl } from '../controls/controls.ts';
import { Journal } from '../journal.ts';
import { Conversations } from '../links/conversations.ts';
import type { CentreLink, OutboundMember } from '../links/outboundlink.ts';
import { OutboundRunner, type OutboundContext } from './outbound.ts';

/* What an outbound tells its session, and what it does with what the session wants: the session is made up. */

/** A session that notes what it is told, and does what the test says. */
class MadeUp {
  commands: ServerCommand<TargetPointAt>[] = [];
  lines: string[] = [];
  effects: ServerEffect[] = [];
  awaits = false;
  wantsStored = false;
  eventsWaiting = 3;
  owed: unknown[] | undefined = undefined;
  keep: Uint8Array | undefined = undefined;
  details: [] | undefined = undefined;
  deadline = null;
  counters = { values: { sent: 4 }, since: 7 };
  start = (): void => void this.lines.push('start');
  stop = (): void => void this.lines.push('stop');
  wake = (): void => {};
  receive = (octets: Uint8Array): void => void this.lines.push(`received ${octets.join(' ')}`);
  command = (command: ServerCommand<TargetPointAt>): void => void this.commands.push(command);
  take = (): ServerEffect[] => this.effects.splice(0);
  form = (): string => 'a form';
  said = (kind: string, quality: number): string => `${kind} ${quality}`;
  held = (): { value: number; text: string } => ({ value: 42, text: 'held' });
}
let session: MadeUp;
let peers: number | null;
vi.mock('@halvix/core/protocols/sessions', async (original) => ({
  ...(await original<object>()),
  serverSide: () => ({ peers: () => peers, make: () => session }),
}));

// Documents before they are read.
/* eslint-disable @typescript-eslint/no-explicit-any */
const at = (index: number) => ({ protocol: 'dnp3', index, eventClass: 1, staticVariation: 1, eventVariation: 3 });
const POINTS = [
  { kind: 'analog', at: { protocol: 'dnp3', index: 0 }, name: 'power', unit: 'kW', gain: 0.1 },
  { kind: 'output', at: { protocol: 'dnp3', index: 1 }, name: 'breaker' },
  { kind: 'setpoint', at: { protocol: 'dnp3', index: 2 }, name: 'limit', gain: 0.5, setting: { low: 0, high: 100 } },
];
const MAPPINGS: any[] = [
  { device: 'D', point: 'AI 0', target: { kind: 'analog', at: at(7), value: 'engineering' } },
  { device: 'D', point: 'BO 1', target: { kind: 'output', at: { ...at(8), staticVariation: 2, eventVariation: 2 } } },
  { device: 'D', point: 'AO 2', target: { kind: 'setpoint', at: at(9), value: 'engineering' } },
  { device: 'D', point: 'AO 2', target: { kind: 'setpoint', at: at(10), value: 'raw' } },
];

let exchange: Exchange;
let journal: Journal;
let config: OutboundConfig;
let runner: OutboundRunner;
let member: OutboundMember;
let told: Record<string, unknown[]>;
let answer: ControlOutcome;
/** So many controls break. */
let breaks = 0;
let problem: string | null;
const note = (what: string, ...of: unknown[]): void => void (told[what] ??= []).push(of.length === 1 ? of[0] : of);

function configured(more: object = {}, life = 'inService'): OutboundConfig {
  const configuration = configurationSchema.parse({
    ...{ schema: 'halvix.configuration', version: 3, network: 'test', stations: [] },
    links: [{ code: 'L', name: 'link', type: 'tcpServer', protocol: 'dnp3', port: 20_100 }],
    devices: [
      {
        ...{ code: 'D', name: 'relay', station: 'S', link: 'F', protocol: 'dnp3', points: POINTS, life },
        settings: { ourAddress: 1, theirAddress: 2 },
      },
    ],
    outbounds: [
      {
        ...{ code: 'C', name: 'centre', centre: 'Quillstone', link: 'L', protocol: 'dnp3', mappings: MAPPINGS },
        settings: { ourAddress: 10, theirAddress: 100 },
        ...more,
      },
    ],
  });
  for (const device of configuration.devices)
    exchange.setDevice(device, (address) => Number(address.split(' ')[1]) + 1);
  [linkConfig] = configuration.links;
  return configuration.outbounds[0];
}
let linkConfig: LinkConfig;
const link = (of: LinkConfig | null): CentreLink => ({
  ...{ where: 'the hall', config: of, timing: { framing: '', octetMs: 0 }, isEmpty: false, fits: () => true },
  get problem() {
    return problem;
  },
  add: (one) => (member = one),
  remove: (one) => note('removed', one),
  send: (_one, octets, peer) => note('sent', [...octets], peer),
  carry: (packet, messages) => note('carried', packet, messages),
  hangUp: (_one, peer) => note('hungUp', peer),
  close: () => Promise.resolve(),
});
const context = (): OutboundContext => ({
  ...{ exchange, journal, conversations: new Conversations() },
  sent: {
    out: (_of, packet) => note('packets', packet),
    answered: (_of, packet, problem) => note('packets', packet, problem),
  },
  changed: () => note('changed', true),
  keep: (octets, all, replaces) => note('kept', [...octets], [...all()], replaces),
  control: (control: CentreControl) => {
    note('control', control);
    return breaks-- > 0 ? Promise.reject(new Error('broken')) : Promise.resolve(answer);
  },
  owe: (record) => note('owed', record),
  settle: ({ queue, position, beyond }) => note('settled', { queue, position, beyond }),
});
function begin(more: object = {}, of: 'link' | 'carrier' = 'link', remembered = NOTHING_REMEMBERED): void {
  config = configured(more);
  runner = new OutboundRunner(config, 5, link(of === 'link' ? linkConfig : null), context(), remembered);
  runner.begin();
  runner.open();
}
/** The session wants this. */
async function wants(...effects: ServerEffect[]): Promise<void> {
  session.effects.push(...effects);
  runner.fill([], false);
  session.commands = session.commands.filter(({ type }) => type !== 'owed');
  await vi.advanceTimersByTimeAsync(0);
}
const commandsOf = (type: string) => session.commands.filter((command) => command.type === type);
/** The journal itself folds what is said again within a minute. */
const MINUTE_AND_MORE = 61_000;
const words = (): string[] => journal.take().map((entry) => `${entry.tone}: ${entry.words}`);
const reading = (raw: number, more: Partial<Reading> = {}): Reading => ({
  ...{ raw, value: raw, quality: 0, time: 5000, timeSource: 'device', received: 6000, cause: 'event' },
  ...more,
});
const put = (id: number, raw: number, more: Partial<Reading> = {}): void =>
  void exchange.put(exchange.get(id)!, reading(raw, more), null);

beforeEach(() => {
  vi.useFakeTimers();
  vi.setSystemTime(Date.UTC(2096, 0, 1));
  exchange = new Exchange();
  journal = new Journal();
  session = new MadeUp();
  [peers, problem, told, answer, breaks] = [null, null, {}, outcome('done'), 0];
});
afterEach(() => {
  runner.stop();
  vi.useRealTimers();
});

describe('who comes and goes', () => {
  test('of one peer the session begins and ends with the connection', () => {
    begin();
    member.up(1, 'the hall', '10.0.0.7');
    member.data(1, Uint8Array.of(1, 2));
    expect(words()).toEqual(['plain: Quillstone connected from the hall']);
    member.down(1);
    expect(session.lines).toEqual(['start', 'received 1 2', 'stop']);
    expect(words()).toEqual(['lost: Quillstone is not connected any more']);
  });

  test('of several each is told of by its number, with what it may', () => {
    peers = 2;
    begin({ controlsFrom: ['10.0.0.0/24'] });
    const within = { maxOctets: 9 } as never;
    member.up(1, 'the hall', '10.0.0.7');
    member.up(2, '10.9.9.9', null, within);
    member.up(3, '10.9.9.8', '10.9.9.8');
    member.data(2, Uint8Array.of(5));
    member.down(1);
    expect(session.commands).toEqual([
      { type: 'came', peer: 1, from: '10.0.0.7', operates: true },
      { type: 'came', peer: 2, from: '10.9.9.9', operates: true, within },
      { type: 'came', peer: 3, from: '10.9.9.8', operates: false },
      { type: 'octets', peer: 2, octets: Uint8Array.of(5), alone: false },
      { type: 'went', peer: 1 },
    ]);
    expect(session.lines).toEqual([]);
    expect(words().at(-1)).toBe('plain: its connection from the hall has ended');
    expect(runner.state().connectedFrom).toBe('10.9.9.9, 10.9.9.8');
  });

  test('on a way of a carrier nobody is said to come', () => {
    begin({}, 'carrier');
    member.up(1, 'x', null);
    member.down(1);
    expect(words()).toEqual([]);
    problem = 'the folder is gone';
    member.changed();
    expect(words()).toEqual(['warning: the hall: the folder is gone']);
  });

  test('a way that is not there is said once, and is a problem as long as it is', () => {
    begin();
    problem = 'the port is taken';
    member.changed();
    vi.advanceTimersByTime(MINUTE_AND_MORE);
    member.changed();
    expect(words()).toEqual(['warning: nobody gets to the hall: the port is taken']);
    expect(runner.state()).toMatchObject({ state: 'failed', problem, lastProblem: { time: Date.now() } });
    expect(runner.standing().failed).toBe(true);
    problem = null;
    member.changed();
    expect([words(), runner.state().state]).toEqual([[], 'listening']);
  });

  test('who is not there yet may come within a minute; who was there and is gone is gone', () => {
    begin();
    const began = Date.now();
    expect(runner.standing()).toEqual({ failed: null, since: began });
    vi.advanceTimersByTime(CENTRE_SILENT_MS - 1);
    expect(runner.standing().failed).toBe(null);
    vi.advanceTimersByTime(1);
    expect(runner.standing()).toEqual({ failed: true, since: began });
    member.up(1, 'x', null);
    const came = Date.now();
    expect(runner.standing()).toEqual({ failed: false, since: came });
    vi.advanceTimersByTime(CENTRE_SILENT_MS);
    expect(runner.standing().failed).toBe(false);
    vi.advanceTimersByTime(1);
    expect(runner.standing()).toEqual({ failed: true, since: came + CENTRE_SILENT_MS });
    member.down(1);
    expect(runner.standing()).toEqual({ failed: true, since: Date.now() });
  });
});

describe('what the session wants', () => {
  test('goes where it belongs', async () => {
    begin();
    session.keep = Uint8Array.of(9, 9);
    await wants(
      { type: 'send', octets: Uint8Array.of(1), peer: 4 },
      { type: 'carry', packet: 6, messages: [{ to: 'a', octets: Uint8Array.of(2) }] },
      { type: 'owes', queue: 'q', number: 8, octets: Uint8Array.of(3) },
      { type: 'settled', queue: 'q', position: 7, beyond: [9] },
      { type: 'keep', octets: Uint8Array.of(4) },
      { type: 'keep', octets: Uint8Array.of(5), replaces: true },
      { type: 'hangUp', peer: 4 },
    );
    expect(told).toMatchObject({
      sent: [[[1], 4]],
      carried: [[6, [{ to: 'a', octets: Uint8Array.of(2) }]]],
      owed: [{ queue: 'q', number: 8 }],
      settled: [{ queue: 'q', position: 7, beyond: [9] }],
      kept: [
        [[4], [9, 9], false],
        [[5], [9, 9], true],
      ],
      hungUp: [4],
    });
  });

  test('what it says is written down: trouble once, and as the last problem', async () => {
    begin();
    await wants({ type: 'noted', words: 'a note' }, { type: 'diagnostic', words: 'trouble' });
    vi.advanceTimersByTime(MINUTE_AND_MORE);
    await wants({ type: 'diagnostic', words: 'trouble' });
    expect(words()).toEqual(['plain: a note', 'warning: trouble']);
    expect(runner.state().lastProblem).toEqual({ time: Date.now(), words: 'trouble' });
    runner.resetCounters();
    expect(runner.state().lastProblem).toBeNull();
    expect(commandsOf('resetCounters')).toHaveLength(1);
    vi.advanceTimersByTime(MINUTE_AND_MORE);
    await wants({ type: 'diagnostic', words: 'trouble' });
    expect(words()).toEqual(['warning: trouble']);
  });

  test('what becomes of an event is noted with its point', async () => {
    begin();
    put(1, 120);
    await wants({ type: 'event', address: 'AI 7', number: 4, form: 'g32v3 i7' });
    await wants({ type: 'reported', events: [{ address: 'AI 7', number: 4 }] });
    const reported = Date.now();
    expect(runner.state().lastConfirmed).toBeNull();
    await vi.advanceTimersByTimeAsync(50);
    await wants({ type: 'heard' }, { type: 'delivered', events: [{ address: 'AI 7', number: 4 }] });
    expect(runner.state()).toMatchObject({ lastConfirmed: Date.now(), lastHeard: Date.now(), eventsWaiting: 3 });
    expect(runner.deliveriesOf(exchange.get(1)!)).toMatchObject([
      { object: 'g32v3 i7', said: 'analog 0', eventNumber: 4, reported, confirmed: Date.now() },
    ]);
  });

  test('what was read has reached the centre too, and so has what an integrity poll brought', async () => {
    begin();
    put(1, 120);
    put(2, 1);
    await wants({ type: 'read', addresses: ['AI 7'] });
    expect(runner.state().lastConfirmed).toBe(Date.now());
    await vi.advanceTimersByTimeAsync(50);
    await wants({ type: 'integrityAnswered' });
    expect(runner.deliveriesOf(exchange.get(2)!)).toMatchObject([{ reported: Date.now(), confirmed: null }]);
    expect(runner.deliveriesOf(exchange.get(1)!)).toMatchObject([{ confirmed: Date.now() - 50 }]);
  });

  test('what it did when asked says who asked', async () => {
    begin();
    runner.order({ order: 'none of these', text: '', by: 'somebody' });
    expect(commandsOf('order')).toEqual([]);
    // What can be asked for is the protocol's.
    Object.assign(config, { protocol: 'tase2' });
    runner.order({ order: 'message', text: 'hello', by: 'somebody' });
    expect(commandsOf('order')).toEqual([{ type: 'order', order: 'message', text: 'hello' }]);
    await wants({ type: 'ordered', order: 'message', words: 'told 1' });
    expect(words()).toEqual(['plain: tell them a message (hello), asked by somebody: told 1']);
    runner.order({ order: 'localReset', text: '', by: 'somebody' });
    await wants({ type: 'ordered', order: 'localReset', words: 'none was held' });
    expect(words()).toEqual(['plain: take selections back, asked by somebody: none was held']);
  });
});

describe('what the session is told', () => {
  test('of what is committed only when it wants that; of what was told and is owed always', () => {
    begin();
    runner.stored([1]);
    session.wantsStored = true;
    runner.stored([2, 3]);
    expect(commandsOf('stored')).toEqual([{ type: 'stored', numbers: [2, 3] }]);
    runner.toldBefore([]);
    const record = { queue: 'q', number: 1, octets: new Uint8Array(0) };
    runner.toldBefore([record]);
    runner.fill([record], true);
    expect(session.commands.slice(1)).toEqual([
      { type: 'toldBefore', records: [record] },
      { type: 'owed', records: [record], last: true },
    ]);
  });

  test('of packets what became of them', () => {
    begin();
    member.carried?.(3, null);
    member.carried?.(4, 'no room');
    expect(session.commands).toEqual([
      { type: 'carried', packet: 3 },
      { type: 'notCarried', packet: 4, words: 'no room' },
    ]);
  });

  test('readings in one piece, what is known quietly; nothing of a level, nor of a device that is on test', () => {
    exchange.listen('judge', () => {});
    config = configured();
    put(1, 10);
    session.commands = [];
    runner = new OutboundRunner(config, 5, link(linkConfig), context(), NOTHING_REMEMBERED);
    runner.begin();
    expect(session.commands).toMatchObject([{ type: 'update', manner: 'quiet', updates: [{ value: 1 }] }]);
    session.commands = [];
    exchange.together(() => {
      put(1, 20);
      put(2, 1);
    });
    expect(session.commands).toMatchObject([
      { type: 'update', manner: 'told', updates: [{ kind: 'analog', value: 2 }, { kind: 'output' }] },
    ]);
    exchange.tellLevel(exchange.get(1)!);
    exchange.get(1)!.passOn = false;
    put(1, 30);
    expect(session.commands).toHaveLength(1);
    runner.stop();
    exchange.get(1)!.passOn = true;
    put(1, 40);
    expect(session.commands).toHaveLength(1);
  });

  test('of another list: all that it has now, and anew only what was not mapped so before', () => {
    begin();
    put(1, 10);
    put(3, 8);
    session.commands = [];
    const changed = [...MAPPINGS.slice(0, 3), { ...MAPPINGS[3], target: { ...MAPPINGS[3].target, at: at(11) } }];
    runner.adopt(configured({ mappings: changed }), new Set());
    expect(member.config.mappings).toHaveLength(4);
    expect(member.config).toBe(runner.config);
    expect(session.commands).toMatchObject([
      { type: 'setPoints', points: [{}, {}, {}, { at: { index: 11 } }] },
      { type: 'update', manner: 'told', updates: [{ at: { index: 11 }, value: 8, always: false }] },
    ]);
  });

  test('of a device that is touched all that it has; of one that is not to be seen the value that it held', () => {
    begin();
    put(1, 10);
    session.commands = [];
    runner.adopt(config, new Set(['D']));
    expect(session.commands.at(-1)).toMatchObject({ updates: [{ kind: 'analog', value: 1 }] });
    session.commands = [];
    exchange.get(1)!.passOn = false;
    runner.adopt(config, new Set(['D']));
    expect(session.commands.at(-1)).toMatchObject({
      updates: [{ kind: 'analog', value: 42, text: 'held', quality: Quality.outOfService, time: Date.now() }],
    });
    expect(commandsOf('setSettings')).toEqual([]);
  });

  test('of other settings those that it adopts', () => {
    begin();
    runner.adopt(configured({ settings: { ourAddress: 10, theirAddress: 100, confirmTimeoutMs: 4321 } }), new Set());
    expect(commandsOf('setSettings')).toMatchObject([{ settings: { confirmTimeoutMs: 4321 } }]);
  });

  test('of a command that a point was given, in what the centre is handed', () => {
    begin();
    const given = { device: 'D', kind: 'setpoint' as const, value: 8, outcome: outcome('done') };
    runner.commandGiven({ ...given, address: 'AO 2' });
    runner.commandGiven({ ...given, address: 'BO 1' });
    runner.commandGiven({ ...given, address: 'AO 99' });
    exchange.get(2)!.passOn = false;
    runner.commandGiven({ ...given, kind: 'output', address: 'BO 1' });
    expect(session.commands).toMatchObject([
      { type: 'commandGiven', kind: 'setpoint', at: { index: 9 }, value: 4, time: Date.now() },
      { type: 'commandGiven', kind: 'setpoint', at: { index: 10 }, value: 8, time: Date.now() },
    ]);
  });

  test('before it ends to rest, until nothing is awaited, or a second has gone by', async () => {
    begin();
    session.awaits = true;
    let rested = false;
    const rest = runner.rest().then(() => (rested = true));
    expect(commandsOf('rest')).toHaveLength(1);
    await vi.advanceTimersByTimeAsync(500);
    expect(rested).toBe(false);
    session.awaits = false;
    await vi.advanceTimersByTimeAsync(5);
    expect(rested).toBe(true);
    await rest;
    session.awaits = true;
    rested = false;
    void runner.rest().then(() => (rested = true));
    await vi.advanceTimersByTimeAsync(990);
    expect(rested).toBe(false);
    await vi.advanceTimersByTimeAsync(20);
    expect(rested).toBe(true);
  });

  test('nothing of what it keeps is lost to whoever goes on in its place', async () => {
    begin({}, 'link', { ...NOTHING_REMEMBERED, lastNumber: 50 });
    await wants({ type: 'owes', queue: 'q', number: 8, octets: Uint8Array.of(3) });
    expect(runner.stop()).toEqual({ remembered: { pieces: [], lastNumber: 50, owes: false }, owed: [] });
    expect(told.removed).toEqual([member]);
    session = new MadeUp();
    begin();
    await wants({ type: 'owes', queue: 'q', number: 8, octets: Uint8Array.of(3) });
    session.keep = Uint8Array.of(1);
    session.owed = [{ queue: 'q', number: 8 }];
    expect(runner.stop()).toEqual({
      remembered: { pieces: [Uint8Array.of(1)], lastNumber: 8, owes: true },
      owed: [{ queue: 'q', number: 8 }],
    });
  });
});

describe('a control of the centre', () => {
  const order = (address: string, more: Partial<CentreOrder> = {}): CentreOrder =>
    ({ kind: 'setpoint', address, counts: 10, ...more }) as CentreOrder;
  const asked = (...items: CentreOrder[]): ServerEffect => ({ type: 'control', token: 3, phase: 'direct', items });
  const outcomes = () => (commandsOf('controlResult')[0] as unknown as { outcomes: ControlOutcome[] }).outcomes;

  test('goes to its device, in counts, one after the other', async () => {
    begin();
    member.up(1, 'x', null);
    answer = outcome('refused' as never);
    await wants(asked(order('AO 9'), order('AO 10'), order('BO 8', { kind: 'output', counts: null })));
    expect(told.control).toMatchObject([
      { outbound: 'C', device: 'D', address: 'AO 2', phase: 'direct', order: { counts: 20 } },
      { address: 'AO 2', order: { counts: 10 } },
      { address: 'BO 1', order: { counts: null } },
    ]);
    expect(commandsOf('controlResult')).toMatchObject([{ token: 3, outcomes: [answer, answer, answer] }]);
  });

  test('that breaks has failed, which is said, and keeps nobody behind it waiting', async () => {
    begin();
    member.up(1, 'x', null);
    breaks = 1;
    await wants(asked(order('AO 9'), order('AO 10')), asked(order('AO 9')));
    expect((told.control as CentreControl[]).length).toBe(3);
    expect(commandsOf('controlResult')).toMatchObject([
      { outcomes: [{ result: 'failed' }, { result: 'done' }] },
      { outcomes: [{ result: 'done' }] },
    ]);
    expect(words()).toContain('warning: a control of AO 9 broke: broken');
  });

  test('of two requests the second waits until the first has what it wants of the same device', async () => {
    begin();
    member.up(1, 'x', null);
    await wants(asked(order('AO 9'), order('AO 10')), asked(order('AO 9', { counts: 99 })));
    const counts = (told.control as CentreControl[]).map(({ order: { counts } }) => counts);
    expect(counts).toEqual([20, 10, 198]);
  });

  test('of what is not mapped, or is something else here, there is no such thing', async () => {
    begin();
    member.up(1, 'x', null);
    await wants(asked(order('AO 77'), order('BO 8')));
    expect(outcomes()).toEqual([outcome('notSupported'), outcome('notSupported')]);
    expect(told.control).toBeUndefined();
  });

  test.each([
    ['the outbound takes none', { controls: false }],
    [
      'the mapping takes none',
      { mappings: [{ ...MAPPINGS[2], target: { ...MAPPINGS[2].target, mayControl: false } }] },
    ],
  ])('is refused where %s, and that is said', async (_where, more) => {
    begin(more);
    member.up(1, 'x', null);
    journal.take();
    await wants(asked(order('AO 9')));
    expect(outcomes()).toEqual([outcome('notAuthorized')]);
    expect(words()).toEqual(['warning: a control of Quillstone was refused: it may not operate AO 9 here']);
  });

  test('from a place that may not operate is refused, by who asked', async () => {
    peers = 2;
    begin({ controlsFrom: ['10.0.0.0/24'] });
    member.up(1, 'far away', '10.9.9.9');
    member.up(2, 'near', '10.0.0.3');
    journal.take();
    await wants({ ...asked(order('AO 9')), peer: 1 } as ServerEffect);
    expect(outcomes()).toEqual([outcome('notAuthorized')]);
    expect(words()).toEqual([
      'warning: a control of AO 9 from far away was refused: nothing may be operated from there',
    ]);
    session.commands = [];
    await wants(asked(order('AO 9')));
    expect(outcomes()).toEqual([answer]);
    // Of somebody who has gone meanwhile nothing is taken.
    session.commands = [];
    await wants({ ...asked(order('AO 9')), peer: 8 } as ServerEffect);
    expect(outcomes()).toEqual([outcome('notAuthorized')]);
    expect(words().at(-1)).toContain('from nowhere');
  });

  test('of a device that is not to be seen is blocked', async () => {
    begin();
    member.up(1, 'x', null);
    exchange.get(3)!.passOn = false;
    await wants(asked(order('AO 9')));
    expect(outcomes()).toEqual([outcome('blocked')]);
  });
});

test('what people act on is in its essence', async () => {
  begin();
  const before = runner.essence();
  expect(runner.essence()).toBe(before);
  member.up(1, 'x', null);
  expect(runner.essence()).not.toBe(before);
  const connected = runner.essence();
  await wants({ type: 'diagnostic', words: 'trouble' });
  expect(runner.essence()).not.toBe(connected);
  expect(told.changed?.length).toBeGreaterThanOrEqual(3);
});
