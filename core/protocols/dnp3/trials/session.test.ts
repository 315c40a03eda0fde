import { describe, expect, test } from 'vitest';
import { fromHex, toHex } from '../../../bytes/index.ts';
import { decodeFragment, encodeFragment, single } from '../wire/application.ts';
import { CONTROL_OPERATIONS } from '../control.ts';
import { encodeLinkFrame, LinkParser } from '../wire/link.ts';
import { Loop } from './loop.ts';
import type { MasterEffect } from '../client/mastermessages.ts';
import { measuredReadings } from '../wire/measured.ts';
import { DEFAULT_VARIATIONS, type OutstationPoint } from '../server/pointtable.ts';
import type { PointKind } from '../../../point/index.ts';

const point = (kind: PointKind, index: number, pointClass: 0 | 1 | 2 | 3 = 1): OutstationPoint => ({
  kind,
  index,
  class: pointClass,
  staticVariation: DEFAULT_VARIATIONS[kind].static,
  eventVariation: DEFAULT_VARIATIONS[kind].event,
  deadband: 0,
});
const LIST = [
  point('binary', 0),
  point('binary', 1),
  point('analog', 7, 2),
  point('counter', 0, 3),
  point('output', 0, 0),
];
const ONLINE = 1;

const events = (effects: MasterEffect[]): [string, number, number | null][] =>
  effects.flatMap((e) =>
    e.type === 'readings'
      ? e.readings
          .filter((r) => r.event)
          .map((r) => [`${r.kind} ${r.index}`, r.value, r.time] as [string, number, number | null])
      : [],
  );
const steps = (effects: MasterEffect[]): string[] => effects.flatMap((e) => (e.type === 'control' ? [e.step] : []));
const change = (loop: Loop, kind: PointKind, index: number, value: number, time = loop.now): void =>
  loop.toOutstation({ type: 'update', updates: [{ kind, index, value, flags: ONLINE, time }] });
const control = (
  loop: Loop,
  mode: 'selectOperate' | 'direct' | 'selectOnly' = 'selectOperate',
  expiresIn = 5000,
): void =>
  loop.toMaster({
    type: 'control',
    id: 'c',
    index: 0,
    block: { code: CONTROL_OPERATIONS.trip, count: 1, onMs: 500, offMs: 250 },
    mode,
    expiresAt: loop.now + expiresIn,
  });

/** A request to the outstation in octets of our choice; returns the answer's fragments. */
function ask(loop: Loop, functionCode: number, objects: string, sequence = 5): Uint8Array[] {
  const before = loop.sent.length;
  const data = Uint8Array.of(0xc0, ...encodeFragment(single(sequence), functionCode, null, fromHex(objects)));
  loop.outstation.receive(
    encodeLinkFrame({
      fromMaster: true,
      primary: true,
      countBit: false,
      countValid: false,
      functionCode: 4,
      destination: 11,
      source: 1,
      data,
    }),
    loop.now,
  );
  loop.pump();
  return loop.sent
    .slice(before)
    .flatMap(({ octets }) =>
      new LinkParser().push(octets).flatMap((e) => (e.type === 'frame' ? [e.frame.data.subarray(1)] : [])),
    );
}
const iin = (answer: Uint8Array[]): number => answer[0][2] | (answer[0][3] << 8);

describe('start-up and polling', () => {
  test('an integrity poll reads every point, the restart is cleared, time is given when asked for', () => {
    const loop = new Loop(LIST, {}, { takesTime: true });
    change(loop, 'analog', 7, -321);
    loop.connect();
    loop.pass(10);
    const readings = loop.masterEffects.flatMap((e) => (e.type === 'readings' ? e.readings : []));
    expect(new Set(readings.filter((r) => !r.event).map((r) => `${r.kind} ${r.index}`)).size).toBe(LIST.length);
    expect(readings.find((r) => r.kind === 'analog' && !r.event)?.value).toBe(-321);
    expect(loop.outstationEffects.find((e) => e.type === 'timeWritten')).toEqual({
      type: 'timeWritten',
      time: loop.now - 10,
    });
    expect(loop.master.indications & 0x90).toBe(0);
  });

  test('an event comes with the next event poll, at its own time, and is confirmed', () => {
    const loop = new Loop(LIST);
    loop.connect();
    loop.pass(300);
    const at = loop.now;
    change(loop, 'binary', 1, 1);
    loop.pass(1000);
    expect(events(loop.masterEffects).at(-1)).toEqual(['binary 1', 1, at]);
    expect(loop.outstation.events.size).toBe(0);
  });

  test('each class has its own period', () => {
    const loop = new Loop(LIST, { class1PeriodMs: 200, class2PeriodMs: 1000, class3PeriodMs: 0 });
    loop.connect();
    change(loop, 'counter', 0, 5);
    change(loop, 'binary', 0, 1);
    loop.pass(250);
    expect(events(loop.masterEffects).map(([name]) => name)).toEqual(['binary 0']);
    change(loop, 'analog', 7, 5);
    loop.pass(600);
    expect(events(loop.masterEffects).map(([name]) => name)).toEqual(['binary 0']);
    loop.pass(300);
    expect(events(loop.masterEffects).map(([name]) => name)).toEqual(['binary 0', 'analog 7']);
  });

  test('no confirm before the commit, and the next fragment only after it', () => {
    const loop = new Loop(LIST);
    loop.connect();
    loop.holdCommits = true;
    for (let i = 0; i < 500; i++) change(loop, 'binary', 0, i & 1);
    loop.pass(1100);
    expect(events(loop.masterEffects).length).toBeLessThan(300);
    expect(loop.outstation.events.size).toBe(500);
    const token = loop.masterEffects.findLast((e) => e.type === 'readings')!;
    loop.holdCommits = false;
    loop.toMaster({ type: 'committed', token: token.type === 'readings' ? token.token! : 0 });
    expect(events(loop.masterEffects)).toHaveLength(500);
    expect(loop.outstation.events.size).toBe(0);
  });

  test('a commit that takes too long withholds the confirm; present values alone are read, and it ends in an integrity poll', () => {
    const loop = new Loop(LIST, { commitWaitMs: 1000 });
    loop.connect();
    loop.holdCommits = true;
    change(loop, 'binary', 0, 1);
    loop.pass(3000);
    expect(loop.masterEffects.filter((e) => e.type === 'diagnostic' && e.words.includes('took too long'))).toHaveLength(
      1,
    );
    const token = loop.masterEffects.findLast((e) => e.type === 'readings' && e.token !== null)!;
    // Both ends go on: what changes is seen, and the event of it waits in the device.
    change(loop, 'analog', 7, 55);
    loop.pass(5000);
    const seen = loop.masterEffects.flatMap((e) => (e.type === 'readings' ? e.readings : []));
    const now = seen.findLast(({ kind, index }) => kind === 'analog' && index === 7);
    expect(now).toMatchObject({ value: 55, event: false });
    expect(events(loop.masterEffects).map(([name]) => name)).toEqual(['binary 0']);
    expect(loop.outstation.events.size).toBe(2);
    const held = loop.masterEffects.findLast((e) => e.type === 'readings')!;
    loop.holdCommits = false;
    const read = (): number => loop.outstationEffects.filter((e) => e.type === 'integrityAnswered').length;
    const readBefore = read();
    expect(held.type === 'readings' && held.token).toBeNull();
    loop.toMaster({ type: 'committed', token: token.type === 'readings' ? token.token! : 0 });
    expect(read()).toBe(readBefore + 1);
    expect(loop.outstation.events.size).toBe(0);
  });
});

describe('silence', () => {
  test('after the retries the device is silent, is asked rarely, and comes back by itself', () => {
    const loop = new Loop(LIST, { responseTimeoutMs: 1000, retries: 2, silentPeriodMs: 15_000 });
    loop.connect();
    loop.wire = () => null;
    const from = loop.now;
    loop.pass(4000);
    const lost = loop.masterEffects.find((e) => e.type === 'communication' && e.state === 'silent');
    expect(lost).toBeDefined();
    expect(loop.master.counters.values.retries).toBe(2);
    const asked = loop.sent.length;
    loop.pass(16_000);
    expect(loop.sent.length).toBe(asked + 1);
    loop.wire = (octets) => octets;
    loop.pass(16_000);
    const last = loop.masterEffects.findLast((e) => e.type === 'communication');
    expect(last).toMatchObject({ state: 'answering' });
    expect(loop.now - from).toBeLessThan(40_000);
  });

  test('a link that stays away makes the device silent within time-out × tries', () => {
    const loop = new Loop(LIST);
    loop.connect();
    loop.disconnect();
    loop.pass(2900);
    expect(loop.masterEffects.some((e) => e.type === 'communication' && e.state === 'silent')).toBe(false);
    loop.pass(200);
    expect(loop.masterEffects.some((e) => e.type === 'communication' && e.state === 'silent')).toBe(true);
  });

  test('events reported but not confirmed come again after a lost confirm, and are no news', () => {
    const loop = new Loop(LIST);
    loop.connect();
    change(loop, 'binary', 0, 1);
    let armed = true;
    loop.wire = (octets, towards) => {
      const isConfirm = towards === 'outstation' && octets[12] === 0;
      if (armed && isConfirm) {
        armed = false;
        return null;
      }
      return octets;
    };
    loop.pass(2500);
    expect(events(loop.masterEffects).map(([name]) => name)).toEqual(['binary 0']);
    expect(loop.outstation.events.size).toBe(0);
  });
});

describe('a device to which no confirm gets', () => {
  const deaf = (
    settings: object,
    lost: (count: number) => boolean,
    there: object = {},
  ): { words: string[]; names: string[] } => {
    const loop = new Loop(LIST, settings, there);
    loop.connect();
    let count = 0;
    loop.wire = (octets, towards) => (towards === 'outstation' && octets[12] === 0 && lost(++count) ? null : octets);
    change(loop, 'binary', 0, 1);
    loop.pass(60_000);
    return {
      words: loop.masterEffects.flatMap((e) => (e.type === 'diagnostic' ? [e.words] : [])),
      names: events(loop.masterEffects).map(([name]) => name),
    };
  };
  const UNHEARD =
    /^the same events came 4 times more although each was confirmed: our confirms do not get to the device/;

  test.each([
    ['polled', {}, {}],
    [
      'unsolicited',
      { unsolicitedClasses: [1, 2, 3], class1PeriodMs: 0 },
      { unsolicited: true, unsolicitedRetries: 20 },
    ],
  ])('is told of once, and its event is stored once, %s', (_how, settings, there) => {
    const { words, names } = deaf(settings, () => true, there);
    expect(words.filter((one) => UNHEARD.test(one))).toHaveLength(1);
    expect(names).toEqual(['binary 0']);
  });

  test('one confirm that is lost is nothing to tell of', () => {
    expect(deaf({}, (count) => count === 1).words.filter((one) => UNHEARD.test(one))).toEqual([]);
  });
});

describe('controls', () => {
  const connected = (): Loop => {
    const loop = new Loop(LIST);
    loop.connect();
    loop.pass(10);
    return loop;
  };

  test('select before operate', () => {
    const loop = connected();
    control(loop);
    expect(steps(loop.masterEffects)).toEqual(['selectSent', 'selected', 'operateSent', 'operated']);
    expect(loop.outstationEffects.flatMap((e) => (e.type === 'control' ? [e.phase] : []))).toEqual([
      'select',
      'operate',
    ]);
  });

  test('direct operate', () => {
    const loop = connected();
    control(loop, 'direct');
    expect(steps(loop.masterEffects)).toEqual(['operateSent', 'operated']);
  });

  test("a refusal carries the device's status", () => {
    const loop = connected();
    loop.decide = () => [7];
    control(loop);
    expect(loop.masterEffects.find((e) => e.type === 'control' && e.step === 'refused')).toMatchObject({
      status: 7,
      words: 'the device is in local',
    });
  });

  test('an unanswered operate is never sent again and its outcome is unknown', () => {
    const loop = connected();
    control(loop, 'selectOnly');
    loop.wire = (octets, towards) => (towards === 'master' ? null : octets);
    control(loop, 'direct');
    loop.pass(30_000);
    expect(steps(loop.masterEffects).slice(2)).toEqual(['operateSent', 'unknown']);
    expect(loop.outstationEffects.filter((e) => e.type === 'control' && e.phase === 'direct')).toHaveLength(1);
  });

  test('an expired control is not sent; one without a connection waits for it as long as it lives', () => {
    const loop = connected();
    control(loop, 'direct', 0);
    loop.disconnect();
    control(loop, 'direct', 300);
    expect(steps(loop.masterEffects)).toEqual(['expired']);
    loop.pass(300);
    expect(steps(loop.masterEffects)).toEqual(['expired', 'expired']);
    expect(loop.outstationEffects.some((e) => e.type === 'control')).toBe(false);
    control(loop, 'direct', 3000);
    loop.pass(100);
    expect(steps(loop.masterEffects).slice(2)).toEqual([]);
    loop.connect();
    loop.pass(100);
    expect(steps(loop.masterEffects).slice(2, 3)).toEqual(['operateSent']);
  });

  const CROB = '0c 01 17 01 00 81 01 f4 01 00 00 fa 00 00 00 00';
  const statusOf = (answer: Uint8Array[]): number => answer[0][answer[0].length - 1];

  test('an operate without its select is refused', () => {
    const loop = connected();
    expect(statusOf(ask(loop, 4, CROB))).toBe(2);
  });

  test('an operate after another request, with another sequence number or too late is refused', () => {
    const loop = new Loop(LIST, { integrityPeriodMs: 0, class1PeriodMs: 0, class2PeriodMs: 0, class3PeriodMs: 0 });
    loop.connect();
    loop.pass(10);
    expect(statusOf(ask(loop, 3, CROB, 5))).toBe(0);
    ask(loop, 1, '3c 01 06', 6);
    expect(statusOf(ask(loop, 4, CROB, 6))).toBe(2);
    ask(loop, 3, CROB, 7);
    expect(statusOf(ask(loop, 4, CROB, 9))).toBe(2);
    ask(loop, 3, CROB, 10);
    loop.pass(10_001);
    expect(statusOf(ask(loop, 4, CROB, 11))).toBe(1);
    ask(loop, 3, CROB, 12);
    expect(statusOf(ask(loop, 4, CROB, 13))).toBe(0);
  });

  test('a block that is to be carried out no time is no operation', () => {
    const loop = connected();
    // Index 0, latch on, count 0.
    const NEVER = '0c 01 17 01 00 03 00 f4 01 00 00 fa 00 00 00 00';
    expect([statusOf(ask(loop, 3, NEVER, 5)), statusOf(ask(loop, 4, NEVER, 6))]).toEqual([0, 0]);
    expect(statusOf(ask(loop, 5, NEVER, 7))).toBe(0);
    expect(loop.outstationEffects.filter((e) => e.type === 'control')).toEqual([]);
    // One that does not exist is none that many times either.
    expect(statusOf(ask(loop, 5, NEVER.replace('17 01 00', '17 01 63'), 8))).toBe(4);
  });

  test('a repeated request is answered again but not carried out again', () => {
    const loop = connected();
    const first = ask(loop, 5, CROB, 3);
    const again = ask(loop, 5, CROB, 3);
    expect(again).toEqual(first);
    expect(loop.outstationEffects.filter((e) => e.type === 'control')).toHaveLength(1);
    loop.decide = () => null;
    expect(ask(loop, 5, CROB, 4)).toEqual([]);
    expect(ask(loop, 5, CROB, 4)).toEqual([]);
    expect(loop.outstationEffects.filter((e) => e.type === 'control')).toHaveLength(2);
  });

  test('direct operate without acknowledgement is carried out and not answered', () => {
    const loop = connected();
    expect(ask(loop, 6, CROB)).toEqual([]);
    expect(loop.outstationEffects.filter((e) => e.type === 'control')).toHaveLength(1);
  });

  test('a control for a point that is not there says so', () => {
    const loop = connected();
    expect(statusOf(ask(loop, 5, '0c 01 28 01 00 2c 01 03 01 00 00 00 00 00 00 00 00 00', 3))).toBe(4);
  });
});

describe('an outstation says what it does not know', () => {
  const loop = new Loop(LIST);
  loop.connect();
  loop.pass(10);
  test.each([
    ['function code', 13, '', 0x100],
    ['object', 1, '63 01 06', 0x200],
    ['qualifier', 1, '1e 01 5b 01', 0x400],
    ['range beyond the points', 1, '01 02 00 00 09', 0x400],
    ['control with a range', 5, '0c 01 00 00 00 03 01 00 00 00 00 00 00 00 00 00', 0x400],
    ['write of a value', 2, '1e 01 00 00 00 01 00 00 00 00', 0x200],
  ])('%s', (_what, functionCode, objects, bit) => {
    expect(iin(ask(loop, functionCode, objects)) & 0xf00).toBe(bit);
  });

  test('reads by group, range, count and index are answered', () => {
    const objects = (request: string): string => toHex(ask(loop, 1, request)[0].subarray(4)).replaceAll(' ', '');
    expect(objects('01 00 06')).toBe('0102000001' + '0202');
    expect(objects('1e 02 00 07 07')).toMatch(/^1e0200070702/);
    expect(objects('14 05 06')).toMatch(/^1401000000/);
    expect(objects('50 01 00 00 0f')).toMatch(/^500100000f/);
  });
});

describe('reads of a master that asks for particulars', () => {
  const quiet = { integrityPeriodMs: 0, class1PeriodMs: 0, class2PeriodMs: 0, class3PeriodMs: 0 };
  /** Group, variation, index, value and time of everything in an answer. */
  const contents = (answer: Uint8Array[]): (string | number | null)[][] =>
    answer.flatMap((octets) => {
      const decoded = decodeFragment(octets);
      if (!decoded.ok) throw new Error(decoded.problem);
      return measuredReadings(decoded.value).readings.map((r) => [
        `g${r.group}v${r.variation}`,
        r.index,
        r.value,
        r.time,
      ]);
    });
  const withEvents = (): Loop => {
    const loop = new Loop(LIST, quiet);
    loop.connect();
    loop.pass(10);
    change(loop, 'binary', 0, 1, 1000);
    change(loop, 'analog', 7, 70, 1001);
    change(loop, 'binary', 1, 1, 1002);
    change(loop, 'binary', 0, 0, 90_000);
    return loop;
  };

  test('events with relative times, a new common time when one does not reach', () => {
    expect(contents(ask(withEvents(), 1, '02 03 06'))).toEqual([
      ['g2v3', 0, 1, 1000],
      ['g2v3', 1, 1, 1002],
      ['g2v3', 0, 0, 90_000],
    ]);
  });

  test('so many events of a class, the oldest first, and the rest later', () => {
    const loop = withEvents();
    expect(contents(ask(loop, 1, '3c 02 07 02', 1))).toEqual([
      ['g2v2', 0, 1, 1000],
      ['g2v2', 1, 1, 1002],
    ]);
    ask(loop, 0, '', 1);
    expect(loop.outstation.events.size).toBe(2);
    expect(contents(ask(loop, 1, '3c 02 06', 2))).toEqual([['g2v2', 0, 0, 90_000]]);
  });

  test('events in the variation that is asked for', () => {
    expect(contents(ask(withEvents(), 1, '20 07 06'))).toEqual([['g32v7', 7, 70, 1001]]);
    expect(contents(ask(withEvents(), 1, '02 01 06'))).toHaveLength(3);
  });

  test('present values in each variation, packed ones too', () => {
    const loop = withEvents();
    const online = (kind: PointKind, index: number, value: number): void => change(loop, kind, index, value);
    for (const [kind, index] of [
      ['counter', 0],
      ['output', 0],
    ] as const)
      online(kind, index, 1);
    expect(contents(ask(loop, 1, '01 01 06'))).toEqual([
      ['g1v1', 0, 0, null],
      ['g1v1', 1, 1, null],
    ]);
    expect(contents(ask(loop, 1, '0a 01 06'))).toEqual([['g10v1', 0, 1, null]]);
    expect(contents(ask(loop, 1, '14 06 06'))).toEqual([['g20v6', 0, 1, null]]);
    for (const variation of [1, 2, 3, 4, 5, 6])
      expect(contents(ask(loop, 1, `1e 0${variation} 06`))).toEqual([[`g30v${variation}`, 7, 70, null]]);
  });

  test('single points by index and by range', () => {
    const loop = withEvents();
    expect(contents(ask(loop, 1, '01 02 17 01 01'))).toEqual([['g1v2', 1, 1, null]]);
    expect(contents(ask(loop, 1, '1e 01 28 01 00 07 00'))).toEqual([['g30v1', 7, 70, null]]);
    expect(contents(ask(loop, 1, '01 02 01 01 00 01 00'))).toEqual([['g1v2', 1, 1, null]]);
  });
});

describe('event buffer', () => {
  test('overflow drops the oldest, is indicated, and ends when events are confirmed', () => {
    const loop = new Loop(LIST, {}, { eventsPerClass: 10 });
    loop.connect();
    loop.pass(10);
    for (let i = 0; i < 15; i++) change(loop, 'binary', 0, (i + 1) & 1, i);
    expect(iin(ask(loop, 23, '')) & 0x800).toBe(0x800);
    loop.pass(3000);
    expect(events(loop.masterEffects).map(([, , time]) => time)).toEqual([5, 6, 7, 8, 9, 10, 11, 12, 13, 14]);
    expect(loop.master.indications & 0x800).toBe(0);
  });

  test('a deadband holds small changes back, a flag change is always an event', () => {
    const loop = new Loop([{ ...point('analog', 0), deadband: 10 }]);
    loop.connect();
    loop.pass(10);
    loop.toOutstation({ type: 'update', updates: [{ kind: 'analog', index: 0, value: 0, flags: ONLINE, time: 1 }] });
    for (const value of [9, 10, 15, 20]) change(loop, 'analog', 0, value, value);
    loop.toOutstation({ type: 'update', updates: [{ kind: 'analog', index: 0, value: 20, flags: 0x11, time: 99 }] });
    loop.pass(1000);
    expect(events(loop.masterEffects).map(([, value, time]) => [value, time])).toEqual([
      [0, 1],
      [10, 10],
      [20, 20],
      [20, 99],
    ]);
  });

  test('a large table comes in several fragments, each with its values', () => {
    const many = Array.from({ length: 2000 }, (_, index) => point('analog', index, 0));
    const loop = new Loop(many);
    loop.toOutstation({
      type: 'update',
      updates: many.map(({ index }) => ({ kind: 'analog' as const, index, value: index * 3, flags: ONLINE, time: 0 })),
    });
    loop.connect();
    loop.pass(10);
    const readings = loop.masterEffects.flatMap((e) => (e.type === 'readings' ? e.readings : []));
    expect(readings.map((r) => r.value)).toEqual(many.map(({ index }) => index * 3));
  });
});

describe('strangers', () => {
  test('garbage, other addresses and over-long fragments are counted and survived', () => {
    const loop = new Loop(LIST, {}, { maxFragment: 249 });
    loop.connect();
    const frame = (source: number, destination: number, data: Uint8Array): Uint8Array =>
      encodeLinkFrame({
        fromMaster: true,
        primary: true,
        countBit: false,
        countValid: false,
        functionCode: 4,
        destination,
        source,
        data,
      });
    loop.outstation.receive(
      Uint8Array.from({ length: 500 }, (_, i) => i & 0xff),
      loop.now,
    );
    loop.outstation.receive(frame(77, 11, Uint8Array.of(0xc0, 0xc0, 1)), loop.now);
    loop.outstation.receive(frame(1, 77, Uint8Array.of(0xc0, 0xc0, 1)), loop.now);
    loop.outstation.receive(frame(1, 11, Uint8Array.of(0x40, ...new Uint8Array(249))), loop.now);
    loop.outstation.receive(frame(1, 11, Uint8Array.of(0x81, ...new Uint8Array(249))), loop.now);
    expect(loop.outstation.counters.values).toMatchObject({
      noiseOctets: 500,
      otherSource: 1,
      otherDestination: 1,
      overlongFragments: 1,
    });
    expect(iin(ask(loop, 1, '3c 02 06')) & 0xf00).toBe(0);
  });

  test('link requests are answered', () => {
    const loop = new Loop(LIST);
    loop.connect();
    loop.pass(10);
    const link = (functionCode: number, countBit = false): number[] => {
      const before = loop.sent.length;
      loop.outstation.receive(
        encodeLinkFrame({
          fromMaster: true,
          primary: true,
          countBit,
          countValid: countBit,
          functionCode,
          destination: 11,
          source: 1,
          data: new Uint8Array(0),
        }),
        loop.now,
      );
      loop.pump();
      return loop.sent.slice(before).map(({ octets }) => octets[3]);
    };
    expect(link(9)).toEqual([0x0b]);
    expect(link(2)).toEqual([0x01]);
    expect(link(0)).toEqual([0x00]);
    expect(link(2)).toEqual([0x00]);
    expect(link(7)).toEqual([0x0f]);
  });

  test('confirmed user data is acknowledged, and a repeated frame is not delivered again', () => {
    const loop = new Loop(LIST);
    loop.connect();
    loop.pass(10);
    const send = (functionCode: number, countBit: boolean, data: Uint8Array): number[] => {
      const before = loop.sent.length;
      const frame = {
        fromMaster: true,
        primary: true,
        countBit,
        countValid: true,
        functionCode,
        destination: 11,
        source: 1,
        data,
      };
      loop.outstation.receive(encodeLinkFrame(frame), loop.now);
      loop.pump();
      return loop.sent
        .slice(before)
        .flatMap(({ octets }) =>
          new LinkParser().push(octets).flatMap((e) => (e.type === 'frame' ? [e.octets[3]] : [])),
        );
    };
    const read = Uint8Array.of(0xc0, 0xc5, 1, 60, 1, 6);
    const [ack, nack, userData] = [0x00, 0x01, 0x44];
    expect(send(3, true, read)).toEqual([nack]);
    expect(send(0, false, new Uint8Array(0))).toEqual([ack]);
    expect(send(3, true, read)).toEqual([ack, userData]);
    expect(send(3, true, read)).toEqual([ack]);
    expect(send(3, false, read)).toEqual([ack, userData]);
  });
});
