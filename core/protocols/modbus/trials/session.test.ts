import fc from 'fast-check';
import { beforeEach, describe, expect, test } from 'vitest';
import { Lane, NO_LINE_TIMING, type LaneEffect } from '../../../line/index.ts';
import type { ClientCommand, ClientNews } from '../../client.ts';
import type { ControlOrder } from '../../control.ts';
import { ModbusClient } from '../client/client.ts';
import { Trial } from '../client/trial.ts';
import type { Order } from '../order.ts';
import { modbusAt, type ModbusAt, type Table } from '../points.ts';
import { PlainMemory, Responder } from '../server/responder.ts';
import { clientSettings } from '../settings.ts';
import { encodeFrame, modbusFraming, type FramingName, type WireEvent } from '../wire/frame.ts';
import { encodeException, encodeResponse, exceptionWords } from '../wire/pdu.ts';

type Command = ClientCommand<ModbusAt, Order>;

/** Client and server on one line, in virtual time; `hear` may change or swallow what the server is sent and sends. */
class Bench {
  now = 1_000_000;
  readonly memory = new PlainMemory();
  readonly news: ClientNews[] = [];
  readonly sent: Uint8Array[] = [];
  readonly client: ModbusClient;
  private readonly lane: Lane<Command, ClientNews, WireEvent>;
  private readonly responder: Responder;
  /** What comes to the client later, in its order. */
  private coming: { at: number; octets: Uint8Array }[] = [];
  /** Whether the server hears a request; by its count. */
  hears: (request: number) => boolean = () => true;
  /** Whether its answer arrives. */
  answers: (request: number) => boolean = () => true;
  delayMs = 5;
  requests = 0;

  constructor(
    points: { id: number; kind: 'analog' | 'output' | 'binary' | 'setpoint' | 'counter' | 'text'; at: ModbusAt }[],
    settings: object = {},
    readonly framing: FramingName = 'tcp',
  ) {
    const read = clientSettings.parse({ unitId: 1, ...settings });
    this.client = new ModbusClient(read, framing, this.now, { octetMs: 0, remembered: null, points, phase: 1 });
    this.lane = new Lane(NO_LINE_TIMING, modbusFraming(framing, 'responses', 0), this.now);
    this.lane.add('D', this.client, this.now);
    this.responder = new Responder({
      framing,
      octetMs: 0,
      memoryOf: (unit) => (unit === 1 ? this.memory : null),
      send: (octets) => {
        if (this.answers(this.requests - 1)) this.coming.push({ at: this.now + this.delayMs, octets });
      },
      count: () => {},
    });
  }

  start(): this {
    this.lane.start(this.now);
    this.settle();
    return this;
  }
  cut(): void {
    this.lane.stop(this.now);
    this.coming = [];
    this.settle();
  }
  command(command: Command): void {
    this.lane.command({ device: 'D', command }, this.now);
    this.settle();
  }
  /** Octets come that nobody asked for. */
  say(octets: Uint8Array): void {
    this.lane.receive(octets, this.now);
    this.settle();
  }

  run(ms: number): this {
    const end = this.now + ms;
    for (;;) {
      const next = Math.min(this.lane.deadline ?? Infinity, this.coming[0]?.at ?? Infinity);
      if (next > end) break;
      this.now = Math.max(this.now, next);
      const due = this.coming.filter(({ at }) => at <= this.now);
      this.coming = this.coming.filter(({ at }) => at > this.now);
      for (const { octets } of due) this.lane.receive(octets, this.now);
      this.lane.wake(this.now);
      this.settle();
    }
    this.now = end;
    return this;
  }

  private settle(): void {
    for (let effects = this.lane.take(); effects.length > 0; effects = this.lane.take())
      for (const effect of effects) this.onEffect(effect);
  }
  private onEffect(effect: LaneEffect<ClientNews>): void {
    if (effect.type === 'device') this.news.push(effect.effect);
    if (effect.type !== 'send') return;
    this.sent.push(effect.octets);
    if (this.hears(this.requests++)) this.responder.receive(effect.octets, this.now);
  }

  values(): Record<number, number | string> {
    const values: Record<number, number | string> = {};
    for (const one of this.news)
      if (one.type === 'readings')
        for (const { id, raw, text } of one.readings) if (id !== null) values[id] = text ?? raw;
    return values;
  }
  states(): string[] {
    return this.news.flatMap((one) => (one.type === 'communication' ? one.state : []));
  }
  steps(id = 'c'): string[] {
    return this.news.flatMap((one) => (one.type === 'control' && one.id === id ? one.step : []));
  }
  get counters(): Record<string, number> {
    return this.client.counters.values;
  }
}

const point = (id: number, table: Table, address: number, more: Partial<ModbusAt> = {}) => ({
  id,
  kind:
    table === 'coils' ? ('output' as const) : table === 'discreteInputs' ? ('binary' as const) : ('analog' as const),
  at: modbusAt(table, address, more),
});
const POINTS = [
  point(1, 'holdingRegisters', 0),
  point(2, 'holdingRegisters', 1, { type: 'int32', order: 'CDAB' }),
  point(3, 'inputRegisters', 10, { type: 'float32' }),
  point(4, 'coils', 5),
  point(5, 'discreteInputs', 9),
];
function filled(memory: PlainMemory): void {
  for (let at = 0; at < 20; at++) memory.registers.holdingRegisters.set(at, at);
  memory.registers.holdingRegisters.set(1, 0xfffe).set(2, 0xffff);
  memory.registers.inputRegisters.set(10, 0x3fc0).set(11, 0);
  memory.bits.coils.set(5, true);
  memory.bits.discreteInputs.set(9, true);
}
const control = (at: ModbusAt, change: Partial<ControlOrder<ModbusAt>>): ControlOrder<ModbusAt> => ({
  ...{ type: 'control', id: 'c', kind: 'output', at, operation: 'latchOff', counts: null, onMs: 0, offMs: 0, count: 1 },
  ...{ mode: 'direct', expiresAt: Infinity },
  ...change,
});

describe.each(['tcp', 'rtu', 'ascii'] as const)('over %s', (framing) => {
  let bench: Bench;
  beforeEach(() => {
    bench = new Bench(POINTS, {}, framing);
    filled(bench.memory);
    bench.start();
  });

  test('all points are read, and again each period', () => {
    expect(bench.run(100).values()).toEqual({ 1: 0, 2: -2, 3: 1.5, 4: 1, 5: 1 });
    expect(bench.states()).toEqual(['answering']);
    const before = bench.requests;
    bench.memory.registers.holdingRegisters.set(0, 77);
    expect(bench.run(1000).values()[1]).toBe(77);
    expect(bench.requests - before).toBe(4);
  });

  test('a coil is written, the device accepts, and it is read back at once', () => {
    bench.run(100);
    bench.command(control(modbusAt('coils', 5), {}));
    bench.run(50);
    expect(bench.steps()).toEqual(['operateSent', 'operated']);
    expect([bench.memory.bits.coils.get(5), bench.values()[4]]).toEqual([false, 0]);
  });

  test('a number is written in its form and order', () => {
    bench.run(100);
    const at = modbusAt('holdingRegisters', 1, { type: 'int32', order: 'CDAB' });
    bench.command(control(at, { kind: 'setpoint', operation: null, counts: -70_000 }));
    bench.run(50);
    expect([bench.steps(), bench.values()[2]]).toEqual([['operateSent', 'operated'], -70_000]);
  });

  test('a text is written into its registers, filled with zeros', () => {
    bench.run(100);
    const at = modbusAt('holdingRegisters', 10, { type: 'text', registers: 3 });
    bench.command(control(at, { kind: 'text', operation: null, text: 'PUMP' }));
    bench.run(50);
    const registers = [10, 11, 12].map((one) => bench.memory.registers.holdingRegisters.get(one));
    expect([bench.steps(), registers]).toEqual([
      ['operateSent', 'operated'],
      [0x5055, 0x4d50, 0],
    ]);
  });

  test.each([true, false])('a bit of a register leaves the others as they are (mask writes: %s)', (maskWrites) => {
    const bits = new Bench([], { maskWrites }, framing);
    bits.memory.registers.holdingRegisters.set(3, 0b1010);
    bits.start();
    bits.command(control(modbusAt('holdingRegisters', 3, { bit: 3 }), {}));
    bits.run(50);
    expect([bits.steps(), bits.memory.registers.holdingRegisters.get(3)]).toEqual([
      ['operateSent', 'operated'],
      0b0010,
    ]);
  });

  test('a pulse is ended after its time', () => {
    bench.memory.bits.coils.set(5, false);
    bench.run(100);
    bench.command(control(modbusAt('coils', 5), { operation: 'pulseOn', onMs: 300 }));
    bench.run(200);
    expect([bench.memory.bits.coils.get(5), bench.steps()]).toEqual([true, ['operateSent']]);
    bench.run(200);
    expect([bench.memory.bits.coils.get(5), bench.steps()]).toEqual([false, ['operateSent', 'operated']]);
  });

  const ON = { operation: 'latchOn' } as const;

  describe('the end of a pulse', () => {
    const PULSE = { operation: 'pulseOn', onMs: 300 } as const;
    const words = (): string | undefined =>
      bench.news.flatMap((one) => (one.type === 'control' && 'words' in one ? one.words : [])).at(-1);
    const notes = (): string[] =>
      bench.news.flatMap((one) => (one.type === 'noted' || one.type === 'diagnostic' ? one.words : []));
    const coil = (): boolean | undefined => bench.memory.bits.coils.get(5);
    beforeEach(() => {
      bench.memory.bits.coils.set(5, false);
      bench.run(100);
    });

    test('is written where its beginning was not answered, and that is said', () => {
      const before = bench.requests;
      // The device carries it out; its answer is lost.
      bench.answers = (request) => request !== before;
      bench.command(control(modbusAt('coils', 5), PULSE));
      bench.run(250);
      expect(coil()).toBe(true);
      bench.run(3000);
      expect([coil(), bench.steps()]).toEqual([false, ['operateSent', 'unknown']]);
      expect(words()).toBe('it was written, but no answer; its end was taken, so that it is over');
    });

    test('that is not answered either leaves the output as it may be, and that is said', () => {
      bench.command(control(modbusAt('coils', 5), PULSE));
      bench.run(100);
      bench.answers = () => false;
      bench.run(3000);
      expect(bench.steps()).toEqual(['operateSent', 'unknown']);
      expect(words()).toBe('the pulse was begun; its end was written, but no answer: the output may still be on');
    });

    test('that the link prevents is said at once, and written when there is one again', () => {
      bench.command(control(modbusAt('coils', 5), PULSE));
      bench.run(100);
      bench.cut();
      expect([coil(), bench.steps()]).toEqual([true, ['operateSent', 'unknown']]);
      expect(words()).toContain(
        'the pulse was begun; the link was lost before its end was written: the output may still be on; it is ended when',
      );
      bench.run(1000);
      bench.start().run(300);
      expect([coil(), bench.steps()]).toEqual([false, ['operateSent', 'unknown']]);
      expect(notes()).toEqual(['the pulse of CO 5 was ended late']);
    });

    test('that a minute does not bring is not written any more: somebody else may have operated it since', () => {
      bench.command(control(modbusAt('coils', 5), PULSE));
      bench.run(100);
      bench.cut();
      bench.run(61_000);
      expect(notes()).toEqual([
        'the pulse of CO 5 was not ended; the device could not be reached: the output may still be on',
      ]);
      bench.start().run(3000);
      expect([coil(), bench.steps()]).toEqual([true, ['operateSent', 'unknown']]);
    });

    test.each([
      [{}, [6, 6]],
      [{ maskWrites: true }, [22, 22]],
    ])('of a bit of a register leaves the other bits as they are then, %j', (settings, writes) => {
      bench = new Bench([point(1, 'holdingRegisters', 4, { bit: 2 })], settings);
      bench.memory.registers.holdingRegisters.set(4, 0b1000);
      bench.start().run(100);
      const before = bench.sent.length;
      bench.command(control(modbusAt('holdingRegisters', 4, { bit: 2 }), PULSE));
      bench.run(100);
      expect(bench.memory.registers.holdingRegisters.get(4)).toBe(0b1100);
      bench.memory.registers.holdingRegisters.set(4, 0b1111);
      bench.run(400);
      expect([bench.memory.registers.holdingRegisters.get(4), bench.steps()]).toEqual([
        0b1011,
        ['operateSent', 'operated'],
      ]);
      const own = bench.sent.slice(before).map((octets) => octets[7]);
      expect(own.filter((code) => code !== 3)).toEqual(writes);
    });
  });

  test('a control waits for the link as long as it lives: some devices close theirs after each answer', () => {
    bench.memory.bits.coils.set(5, false);
    bench.run(100);
    bench.cut();
    bench.command({ ...control(modbusAt('coils', 5), ON), expiresAt: bench.now + 2000 });
    bench.run(500);
    expect(bench.steps()).toEqual([]);
    bench.start().run(100);
    expect([bench.memory.bits.coils.get(5), bench.steps()]).toEqual([true, ['operateSent', 'operated']]);
    bench.cut();
    bench.command({ ...control(modbusAt('coils', 5), ON), id: 'late', expiresAt: bench.now + 500 });
    bench.run(499);
    expect(bench.steps('late')).toEqual([]);
    bench.run(1);
    expect(bench.steps('late')).toEqual(['expired']);
  });

  test('what was read of a register before the link was lost is written over the next one', () => {
    bench = new Bench([point(1, 'holdingRegisters', 4, { bit: 2 })]);
    bench.memory.registers.holdingRegisters.set(4, 0b1000);
    bench.start().run(100);
    bench.command(control(modbusAt('holdingRegisters', 4, { bit: 2 }), ON));
    // It closes with its answer, each time.
    for (let n = 0; n < 3; n++) {
      bench.run(5);
      bench.cut();
      bench.run(20);
      bench.start();
    }
    bench.run(200);
    expect(bench.memory.registers.holdingRegisters.get(4)).toBe(0b1100);
  });

  test.each([
    ['single', 6],
    ['multiple', 16],
    ['readWrite', 23],
  ] as const)('with %s writes a bit of a register goes out by function %i', (writes, code) => {
    const at = modbusAt('holdingRegisters', 4, { bit: 2 });
    bench = new Bench([point(1, 'holdingRegisters', 4, { bit: 2 })], { writes });
    bench.memory.registers.holdingRegisters.set(4, 0);
    bench.start().run(100);
    bench.command(control(at, ON));
    bench.run(100);
    expect(bench.sent.map((octets) => octets[7]).filter((one) => one !== 3)).toEqual([code]);
    expect(bench.memory.registers.holdingRegisters.get(4)).toBe(0b100);
  });

  test('a write without an answer is never sent again', () => {
    bench.run(100);
    const before = bench.requests;
    bench.hears = (request) => request !== before;
    bench.command(control(modbusAt('coils', 5), {}));
    bench.run(3000);
    expect(bench.steps()).toEqual(['operateSent', 'unknown']);
    expect(bench.sent.slice(before).filter((octets) => bench.sent[before] === octets)).toHaveLength(1);
    expect(bench.memory.bits.coils.get(5)).toBe(true);
  });

  test('a device that is gone is found silent, asked rarely, and read again when it is back', () => {
    bench.run(100);
    bench.hears = () => false;
    bench.run(10_000);
    expect(bench.states()).toEqual(['answering', 'silent']);
    const before = bench.requests;
    bench.run(60_000);
    expect(bench.requests - before).toBe(4);
    bench.command(control(modbusAt('coils', 5), {}));
    expect(bench.steps()).toEqual(['failed']);
    bench.hears = () => true;
    bench.memory.registers.holdingRegisters.set(0, 5);
    bench.run(16_000);
    expect([bench.states().at(-1), bench.values()[1]]).toEqual(['answering', 5]);
  });

  test('one lost request is repeated, and nobody notices', () => {
    bench.run(100);
    const before = bench.requests;
    bench.hears = (request) => request !== before;
    bench.run(4000);
    expect([bench.states(), bench.counters.retries]).toEqual([['answering'], 1]);
  });
});

describe('what a device does not have', () => {
  const gap = [point(1, 'holdingRegisters', 0), point(2, 'holdingRegisters', 4), point(3, 'holdingRegisters', 9)];

  test('gaps are left out once they are refused', () => {
    const bench = new Bench(gap);
    for (const at of [0, 4, 9]) bench.memory.registers.holdingRegisters.set(at, at);
    bench.start().run(100);
    expect([bench.values(), bench.client.learned]).toEqual([{ 1: 0, 2: 4, 3: 9 }, null]);
  });

  test('a point that is not there is named, the others are read; it comes when it is there', () => {
    const bench = new Bench(gap);
    for (const at of [0, 9]) bench.memory.registers.holdingRegisters.set(at, at);
    bench.start().run(500);
    expect(bench.values()).toEqual({ 1: 0, 3: 9 });
    expect(bench.news.filter(({ type }) => type === 'unreadable')).toMatchObject([{ points: [2] }]);
    expect(bench.client.learned).toContain('holding register 4: exception 02');
    bench.memory.registers.holdingRegisters.set(4, 44);
    expect(bench.run(61_000).values()[2]).toBe(44);
    expect(bench.client.learned).toBeNull();
    expect(bench.news.filter(({ type }) => type === 'unreadable').at(-1)).toMatchObject({ points: [] });
  });

  test('points of several blocks that are refused are told as a whole, and taken back one by one', () => {
    const apart = [0, 1000, 2000, 3000].map((address, n) => point(n + 1, 'inputRegisters', address));
    const bench = new Bench(apart);
    for (const at of [0, 2000]) bench.memory.registers.inputRegisters.set(at, at);
    bench.start().run(3000);
    const told = (): readonly number[][] =>
      bench.news.flatMap((one) => (one.type === 'unreadable' ? [[...one.points]] : []));
    expect(told().at(-1)).toEqual([2, 4]);
    bench.memory.registers.inputRegisters.set(1000, 1);
    bench.run(61_000);
    expect(told().at(-1)).toEqual([4]);
    bench.memory.registers.inputRegisters.set(3000, 1);
    bench.run(61_000);
    expect(told().at(-1)).toEqual([]);
    bench.memory.registers.inputRegisters.delete(2000);
    bench.run(2000);
    expect(told().at(-1)).toEqual([3]);
    bench.command({ type: 'setPoints', points: apart.slice(0, 2) });
    bench.run(2000);
    expect(told().at(-1)).toEqual([]);
  });

  test('a survey tells the values that were read, and nothing of what was not', () => {
    const bench = new Bench([
      point(1, 'holdingRegisters', 0, { type: 'float32' }),
      point(2, 'holdingRegisters', 2, { type: 'text', registers: 1 }),
      point(3, 'inputRegisters', 0),
    ]);
    [0x4120, 0, 0x4142].forEach((value, at) => bench.memory.registers.holdingRegisters.set(at, value));
    bench.start().run(500);
    bench.command({ type: 'pollNow' });
    bench.command({ type: 'survey', id: 's' });
    bench.run(500);
    const surveyed = bench.news.find((one) => one.type === 'surveyed');
    expect(surveyed?.type === 'surveyed' && surveyed.found).toEqual([
      { kind: 'analog', address: 'HR 0', form: 'float32', value: 10, said: '' },
      { kind: 'analog', address: 'HR 2', form: 'text', value: 0, said: '', words: 'AB' },
    ]);
  });

  test('a write that the device refuses says so with its exception', () => {
    const bench = new Bench(gap).start();
    bench.command(control(modbusAt('coils', 77), {}));
    bench.run(50);
    expect(bench.news.find((one) => one.type === 'control' && one.step === 'refused')).toMatchObject({ status: 2 });
  });

  test('a function that one block is left unanswered for does not make the whole device silent', () => {
    const bench = new Bench([point(1, 'holdingRegisters', 0), point(2, 'inputRegisters', 0)]);
    bench.memory.registers.holdingRegisters.set(0, 3);
    bench.memory.registers.inputRegisters.set(0, 4);
    bench.hears = (request) => bench.sent[request][7] !== 0x04;
    bench.start().run(30_000);
    expect(bench.states()).toEqual(['answering']);
    expect(bench.client.learned).toContain('input register 0: no answer');
    const before = bench.requests;
    bench.run(10_000);
    expect(bench.requests - before).toBeGreaterThanOrEqual(9);
  });
});

describe('peers that are not as they should be', () => {
  const one = [point(1, 'holdingRegisters', 0)];

  test('a late answer to an earlier try is not taken for one to the next request', () => {
    const two = [point(1, 'holdingRegisters', 0), point(2, 'inputRegisters', 0)];
    const bench = new Bench(two, { responseTimeoutMs: 100 }, 'rtu');
    bench.memory.registers.holdingRegisters.set(0, 1111);
    bench.memory.registers.inputRegisters.set(0, 2222);
    bench.delayMs = 150;
    bench.start().run(20_000);
    const wrong = bench.news.some(
      (news) => news.type === 'readings' && news.readings.some(({ id, raw }) => raw !== (id === 1 ? 1111 : 2222)),
    );
    expect(wrong).toBe(false);
    expect(bench.counters.lateAnswers).toBeGreaterThan(0);
  });

  test('answers of another unit, of another transaction and unasked ones are counted and survived', () => {
    const bench = new Bench(one);
    bench.memory.registers.holdingRegisters.set(0, 3);
    bench.start();
    const answer = encodeResponse({ code: 0x03, data: Uint8Array.of(0, 99) });
    bench.say(encodeFrame('tcp', 1, 9, answer));
    bench.say(encodeFrame('tcp', 4711, 1, answer));
    bench.run(100);
    bench.say(encodeFrame('tcp', 1, 1, answer));
    expect([bench.values(), bench.counters.otherUnit, bench.counters.lateAnswers]).toEqual([{ 1: 3 }, 1, 2]);
    expect(bench.news.find(({ type }) => type === 'stranger')).toMatchObject({ address: 9, destination: 1 });
  });

  test('a gateway whose device is silent counts as no answer', () => {
    const bench = new Bench(one);
    bench.hears = () => false;
    bench.start();
    for (let n = 1; n < 5; n++) {
      bench.say(encodeFrame('tcp', n, 1, encodeException(0x03, 0x0b)));
      bench.run(1);
    }
    expect(bench.states()).toEqual(['silent']);
  });

  test('a server that closes after each answer is read all the same', () => {
    const bench = new Bench(POINTS);
    filled(bench.memory);
    for (let n = 0; n < 12; n++) {
      bench.start().run(6);
      bench.cut();
    }
    expect(bench.values()).toEqual({ 1: 0, 2: -2, 3: 1.5, 4: 1, 5: 1 });
  });

  test('a list that changes while an answer is under way: nothing of the old one comes', () => {
    const bench = new Bench(POINTS);
    filled(bench.memory);
    bench.start();
    bench.command({ type: 'setPoints', points: [point(9, 'holdingRegisters', 3)] });
    expect(bench.run(100).values()).toEqual({ 9: 3 });
  });

  test('several requests under way over TCP, and their answers in any order', () => {
    const bench = new Bench(POINTS, { outstanding: 4 });
    filled(bench.memory);
    bench.start();
    expect(bench.requests).toBe(4);
    expect(bench.run(5).values()).toEqual({ 1: 0, 2: -2, 3: 1.5, 4: 1, 5: 1 });
  });

  test('nothing that comes makes it fail, and afterwards all is read', () => {
    fc.assert(
      fc.property(
        fc.constantFrom('tcp' as const, 'rtu' as const, 'ascii' as const),
        fc.array(fc.oneof(fc.uint8Array({ maxLength: 60 }), fc.constant(null)), { maxLength: 12 }),
        (framing, chunks) => {
          const bench = new Bench(POINTS, {}, framing);
          filled(bench.memory);
          bench.start();
          for (const chunk of chunks) {
            if (chunk !== null) bench.say(chunk);
            bench.run(chunk === null ? 1000 : 3);
          }
          bench.run(80_000);
          expect(bench.values()).toEqual({ 1: 0, 2: -2, 3: 1.5, 4: 1, 5: 1 });
        },
      ),
      { numRuns: 150 },
    );
  });
});

test('exceptions are named as the specification writes them', () => {
  expect([0x02, 0x0a, 0x0b, 0x63].map((code) => exceptionWords(code).slice(0, 12))).toEqual([
    ...['exception 02', 'exception 0A', 'exception 0B', 'exception 63'],
  ]);
});

test('a try on a unit that is not behind its gateway does not end well', () => {
  const trial = new Trial(clientSettings.parse({ unitId: 5 }), 'tcp');
  trial.start(1000);
  const request = trial.take().find(({ type }) => type === 'send');
  const transaction = request?.type === 'send' ? (request.octets[0] << 8) | request.octets[1] : 0;
  trial.receive(encodeFrame('tcp', transaction, 5, encodeException(0x2b, 0x0b)), 1020);
  const news = trial.take();
  expect(news.find(({ type }) => type === 'step')).toMatchObject({
    ...{ state: 'bad', words: 'a gateway answers after 20 ms: exception 0B, it did not answer the gateway' },
    meaning: 'Unit 5 is not behind it, or is off: the gateway is there.',
  });
  expect(news.at(-1)).toEqual({ type: 'ended', good: false });
});
