import { describe, expect, test } from 'vitest';
import type { PointKind } from '../../../point/index.ts';
import { Broadcast, SELF_ADDRESS } from '../address.ts';
import { FunctionCode, Iin } from '../wire/application.ts';
import { encodeLinkFrame, LinkParser, PrimaryFunction } from '../wire/link.ts';
import { Loop } from './loop.ts';
import type { Order } from '../order.ts';
import { DEFAULT_VARIATIONS, type OutstationPoint } from '../server/pointtable.ts';
import type { MasterSettings, OutstationSettings } from '../settings.ts';

const point = (kind: PointKind, index: number, more: Partial<OutstationPoint> = {}): OutstationPoint => ({
  kind,
  index,
  class: kind === 'output' ? 0 : 1,
  staticVariation: DEFAULT_VARIATIONS[kind].static,
  eventVariation: DEFAULT_VARIATIONS[kind].event,
  deadband: 0,
  ...more,
});
const LIST: OutstationPoint[] = (
  ['binary', 'doubleBit', 'output', 'analog', 'counter', 'setpoint', 'frozenCounter'] as const
).flatMap((kind) => [0, 1, 2].map((index) => point(kind, index)));

function started(master: Partial<MasterSettings> = {}, outstation: Partial<OutstationSettings> = {}): Loop {
  const loop = new Loop(LIST, { class1PeriodMs: 0, class2PeriodMs: 0, class3PeriodMs: 0, ...master }, outstation);
  const updates = LIST.map(({ kind, index }) => {
    const value = kind === 'binary' ? 1 : index + 10;
    return { kind, index, value, flags: 1, time: loop.now };
  });
  loop.toOutstation({ type: 'update', updates, quiet: true });
  loop.connect();
  loop.pass(100);
  return loop;
}
function set(loop: Loop, kind: PointKind, index: number, value: number): void {
  const update = { kind, index, value, flags: 1, time: loop.now, exact: true };
  loop.toOutstation({ type: 'update', updates: [update] });
}
/** Values that came as events, newest last. */
const events = (loop: Loop, kind?: PointKind): number[] =>
  loop.masterEffects.flatMap((e) =>
    e.type === 'readings' ? e.readings.filter((r) => r.event && (!kind || r.kind === kind)).map((r) => r.value) : [],
  );
function order(loop: Loop, wanted: Order): { problem: string | null; answer: object } | undefined {
  loop.toMaster({ type: 'order', id: 'o', order: wanted });
  loop.pass(100);
  const ended = loop.masterEffects.filter((e) => e.type === 'ordered').at(-1);
  return ended && { problem: ended.problem, answer: ended.answer };
}
/** Sends a request by hand; returns the fragments that come back. */
function ask(
  loop: Loop,
  functionCode: number,
  objects: number[],
  { destination = 11, sequence = 5, uns = false } = {},
) {
  const before = loop.sent.length;
  const data = Uint8Array.from([0xc0, 0xc0 | (uns ? 0x10 : 0) | sequence, functionCode, ...objects]);
  const frame = {
    fromMaster: true,
    primary: true,
    countBit: false,
    countValid: false,
    functionCode: PrimaryFunction.unconfirmedUserData,
    destination,
    source: 1,
    data,
  };
  loop.outstation.receive(encodeLinkFrame(frame), loop.now);
  loop.pump();
  return loop.sent
    .slice(before)
    .filter(({ towards }) => towards === 'master')
    .flatMap(({ octets }) => new LinkParser().push(octets))
    .flatMap((e) => (e.type === 'frame' ? [{ frame: e.frame, fragment: e.frame.data.subarray(1) }] : []));
}
const iinOf = (fragment: Uint8Array): number => fragment[2] | (fragment[3] << 8);

describe('unsolicited responses', () => {
  const both = (master: Partial<MasterSettings> = {}, outstation: Partial<OutstationSettings> = {}): Loop =>
    started({ unsolicitedClasses: [1, 2, 3], ...master }, { unsolicited: true, ...outstation });

  test('begin with an empty one, are enabled after the integrity poll, and then carry events unasked', () => {
    const loop = both();
    const functions = loop.sent
      .flatMap(({ octets }) => new LinkParser().push(octets))
      .flatMap((e) => (e.type === 'frame' ? [e.frame.data[2]] : []));
    const at = (code: number): number => functions.indexOf(code);
    expect(at(FunctionCode.unsolicitedResponse)).toBeLessThan(2);
    expect(at(FunctionCode.read)).toBeGreaterThan(at(FunctionCode.unsolicitedResponse));
    expect(at(FunctionCode.enableUnsolicited)).toBeGreaterThan(at(FunctionCode.read));
    set(loop, 'analog', 1, 77);
    loop.pass(499);
    expect(events(loop)).toEqual([]);
    loop.pass(2);
    expect(events(loop)).toEqual([77]);
    expect(loop.outstation.events.size).toBe(0);
  });

  test('a later connection begins without an empty one, and what waits comes by itself; a restart begins with one', () => {
    const loop = both();
    const empties = (): number =>
      loop.sent
        .flatMap(({ octets }) => new LinkParser().push(octets))
        .filter(
          (e) =>
            e.type === 'frame' && e.frame.data[2] === FunctionCode.unsolicitedResponse && e.frame.data.length === 5,
        ).length;
    expect(empties()).toBe(1);
    loop.disconnect();
    set(loop, 'analog', 1, 77);
    loop.outstation.start(loop.now);
    loop.pump();
    loop.pass(600);
    expect(empties()).toBe(1);
    expect(loop.outstation.awaits).toBe(true);
    loop.outstation.stop(loop.now);
    loop.toOutstation({ type: 'restarted' });
    loop.connect();
    loop.pass(100);
    expect(empties()).toBe(2);
  });

  test('nothing but the empty one comes before the master has enabled it', () => {
    const loop = started({ disableUnsolicited: false }, { unsolicited: true });
    set(loop, 'analog', 1, 77);
    loop.pass(20_000);
    expect(events(loop)).toEqual([]);
  });

  test('are confirmed after the commit only, and a repeated one is not taken twice', () => {
    const loop = both({}, { confirmTimeoutMs: 1000 });
    loop.holdCommits = true;
    set(loop, 'analog', 1, 77);
    loop.pass(3200);
    expect(events(loop)).toEqual([77]);
    expect(loop.outstation.events.size).toBe(1);
    const readings = loop.masterEffects.filter((e) => e.type === 'readings').at(-1);
    loop.toMaster({ type: 'committed', token: readings?.token ?? 0 });
    expect(loop.outstation.events.size).toBe(0);
    expect(events(loop)).toEqual([77]);
  });

  test('whose confirm is lost are repeated, confirmed again, and not taken again', () => {
    const loop = both({}, { confirmTimeoutMs: 1000 });
    let lose = 1;
    loop.wire = (octets, towards) => (towards === 'outstation' && lose-- > 0 ? null : octets);
    set(loop, 'analog', 1, 77);
    loop.pass(2000);
    expect(events(loop)).toEqual([77]);
    expect(loop.outstation.events.size).toBe(0);
  });

  test('that are never confirmed rest, and go out anew with another sequence number', () => {
    const settings = { confirmTimeoutMs: 1000, unsolicitedRetries: 2, unsolicitedRestMs: 5000 };
    const loop = both({ keepAliveMs: 0 }, settings);
    loop.wire = (octets, towards) => (towards === 'outstation' ? null : octets);
    const before = loop.sent.length;
    set(loop, 'analog', 1, 77);
    loop.pass(9500);
    const sequences = loop.sent
      .slice(before)
      .filter(({ towards }) => towards === 'master')
      .flatMap(({ octets }) => new LinkParser().push(octets))
      .flatMap((e) => (e.type === 'frame' ? [e.frame.data[1] & 0x0f] : []));
    expect(sequences.slice(0, 3)).toEqual(Array(3).fill(sequences[0]));
    expect(sequences[3]).toBe((sequences[0] + 1) & 0x0f);
  });

  test('a read that crosses one is answered after its confirm, another request at once', () => {
    const loop = both();
    loop.holdCommits = true;
    set(loop, 'analog', 1, 77);
    loop.pass(600);
    expect(loop.outstation.events.size).toBe(1);
    expect(ask(loop, FunctionCode.delayMeasurement, [])).toHaveLength(1);
    expect(ask(loop, FunctionCode.read, [60, 1, 6], { sequence: 6 })).toEqual([]);
    const before = loop.sent.length;
    const readings = loop.masterEffects.filter((e) => e.type === 'readings').at(-1);
    loop.toMaster({ type: 'committed', token: readings?.token ?? 0 });
    const answers = loop.sent.slice(before).filter(({ towards }) => towards === 'master');
    expect(answers).toHaveLength(1);
  });

  test('the master goes on waiting for its answer when one comes in between', () => {
    const loop = both({ responseTimeoutMs: 1000 });
    let held: Uint8Array | null = null;
    loop.wire = (octets, towards) => {
      const isAnswer = towards === 'master' && octets[12] === FunctionCode.response;
      if (!isAnswer || held) return octets;
      held = octets;
      return null;
    };
    loop.toMaster({ type: 'pollNow' });
    set(loop, 'analog', 2, 5);
    loop.pass(600);
    loop.master.receive(held ?? new Uint8Array(), loop.now);
    loop.pump();
    loop.pass(500);
    expect(loop.master.counters.values.timeouts).toBe(0);
    expect(events(loop)).toEqual([5]);
  });
});

describe('counters', () => {
  test('freeze keeps them as frozen counters and events; the read finds them', () => {
    const loop = started();
    expect(order(loop, { what: 'freeze', clear: false, range: null, acknowledged: true })?.problem).toBeNull();
    set(loop, 'counter', 0, 99);
    expect([0, 1, 2].map((i) => loop.outstation.point('frozenCounter', i)?.value)).toEqual([10, 11, 12]);
    loop.toMaster({ type: 'pollNow' });
    loop.pass(100);
    expect(events(loop, 'frozenCounter')).toEqual([10, 11, 12]);
  });

  test('freeze and clear takes a range, and begins them at zero', () => {
    const loop = started();
    order(loop, { what: 'freeze', clear: true, range: { start: 1, stop: 1 }, acknowledged: true });
    expect([0, 1].map((i) => loop.outstation.point('counter', i)?.value)).toEqual([10, 0]);
    expect(loop.outstation.point('frozenCounter', 1)?.value).toBe(11);
    expect(loop.outstationEffects.find((e) => e.type === 'countersCleared')).toMatchObject({ indexes: [1] });
  });

  test('without acknowledgement nothing is answered', () => {
    const loop = started();
    expect(ask(loop, FunctionCode.immediateFreezeNoAck, [20, 0, 6])).toEqual([]);
    expect(ask(loop, FunctionCode.freezeAndClearNoAck, [20, 0, 0, 2, 2])).toEqual([]);
    expect(loop.outstation.point('frozenCounter', 0)?.value).toBe(10);
    expect(loop.outstation.point('counter', 2)?.value).toBe(0);
  });

  test('what is no counter is not frozen', () => {
    const loop = started();
    const [answer] = ask(loop, FunctionCode.immediateFreeze, [30, 0, 6]);
    expect(iinOf(answer.fragment) & Iin.objectUnknown).toBeTruthy();
  });
});

describe('restart', () => {
  test('a device that allows it says how long it will be away', () => {
    const loop = started({}, { restartsInMs: 4200 });
    expect(order(loop, { what: 'restart', how: 'warm' })).toEqual({ problem: null, answer: { awayMs: 4200 } });
    expect(loop.outstationEffects).toContainEqual(expect.objectContaining({ type: 'restartAsked', how: 'warm' }));
  });

  test('one that does not refuses', () =>
    expect(order(started(), { what: 'restart', how: 'cold' })?.problem).toBe(
      'the device refused the request: function code not supported',
    ));
});

describe('classes and deadbands', () => {
  test('assign class moves points, and class 0 ends their events', () => {
    const loop = started();
    const range = { start: 1, stop: 2 };
    expect(order(loop, { what: 'assignClass', eventClass: 0, group: 30, range })?.problem).toBeNull();
    set(loop, 'analog', 1, 1000);
    set(loop, 'analog', 0, 1000);
    expect([...loop.outstation.events.waiting(() => true)].map(({ index }) => index)).toEqual([0]);
    expect(order(loop, { what: 'assignClass', eventClass: 2, group: 99, range })?.problem).toContain('object unknown');
  });

  test('deadbands are written and read back', () => {
    const loop = started();
    order(loop, { what: 'writeDeadbands', items: [{ index: 1, value: 250 }] });
    expect(loop.outstation.point('analog', 1)?.deadband).toBe(250);
    expect(order(loop, { what: 'readDeadbands' })?.answer).toEqual({
      deadbands: [
        { index: 0, value: 0 },
        { index: 1, value: 250 },
        { index: 2, value: 0 },
      ],
    });
  });
});

describe('time', () => {
  test('on a LAN the time is recorded first and told afterwards', () => {
    const loop = started({ timeSync: 'whenAskedLan' }, { takesTime: true });
    const written = loop.outstationEffects.find((e) => e.type === 'timeWritten');
    expect(Math.abs((written?.type === 'timeWritten' ? written.time : 0) - loop.now)).toBeLessThanOrEqual(100);
    const functions = loop.sent
      .flatMap(({ octets }) => new LinkParser().push(octets))
      .flatMap((e) => (e.type === 'frame' ? [e.frame.data[2]] : []));
    expect(functions).toContain(FunctionCode.recordCurrentTime);
    expect(functions).not.toContain(FunctionCode.delayMeasurement);
  });

  test('a recorded time that was never recorded is refused', () => {
    const loop = started();
    const [answer] = ask(loop, FunctionCode.write, [50, 3, 7, 1, 0, 0, 0, 0, 0, 0]);
    expect(iinOf(answer.fragment) & Iin.parameterError).toBeTruthy();
  });

  test("the device's clock is compared, and once it is not known it is asked no more", () => {
    const loop = started({ clockCheckMs: 1000 });
    loop.toOutstation({ type: 'setClock', offsetMs: 2500 });
    loop.pass(1100);
    expect(loop.masterEffects.filter((e) => e.type === 'clock').at(-1)).toMatchObject({ offsetMs: 2500 });
  });
});

describe('analog outputs', () => {
  const setpoint = (value: number, variation: 1 | 2 | 3 | 4, mode: 'direct' | 'selectOperate' = 'selectOperate') => ({
    type: 'control' as const,
    id: 'c',
    index: 1,
    block: { code: 0, count: 0, onMs: 0, offMs: 0 },
    setpoint: { value, variation },
    mode,
  });
  test.each([
    [1, -70_000],
    [2, -300],
    [3, 1.5],
    [4, 1e300],
  ] as const)('g41v%i is selected and operated with its value', (variation, value) => {
    const loop = started();
    loop.toMaster({ ...setpoint(value, variation), expiresAt: loop.now + 5000 });
    loop.pass(50);
    const handed = loop.outstationEffects.filter((e) => e.type === 'control');
    expect(handed.map((e) => [e.phase, e.items[0].setpoint?.value])).toEqual([
      ['select', value],
      ['operate', value],
    ]);
    expect(loop.masterEffects.filter((e) => e.type === 'control').at(-1)).toMatchObject({ step: 'operated' });
  });

  test('a point that is not there is refused', () => {
    const loop = started();
    loop.toMaster({ ...setpoint(1, 1, 'direct'), index: 9, expiresAt: loop.now + 5000 });
    loop.pass(50);
    expect(loop.masterEffects.filter((e) => e.type === 'control').at(-1)).toMatchObject({ step: 'refused', status: 4 });
  });
});

describe('addresses for many', () => {
  test.each(Object.entries(Broadcast))(
    'a broadcast (%s) is carried out, not answered, and indicated',
    (name, address) => {
      const loop = started();
      const objects = [20, 0, 6];
      expect(ask(loop, FunctionCode.freezeAndClearNoAck, objects, { destination: address })).toEqual([]);
      expect(loop.outstation.point('frozenCounter', 0)?.value).toBe(10);
      const [answer] = ask(loop, FunctionCode.read, [60, 1, 6], { sequence: 7 });
      expect(iinOf(answer.fragment) & Iin.broadcast).toBe(Iin.broadcast);
      const confirms = (answer.fragment[0] & 0x20) !== 0;
      // The freezing made events, which ask for a confirm by themselves only when they are read.
      expect(confirms).toBe(name === 'confirm');
      if (confirms) ask(loop, FunctionCode.confirm, [], { sequence: 7 });
      const [next] = ask(loop, FunctionCode.read, [60, 1, 6], { sequence: 8 });
      expect(iinOf(next.fragment) & Iin.broadcast).toBe(0);
    },
  );

  test('a read to everybody is passed over', () => {
    const loop = started();
    expect(ask(loop, FunctionCode.read, [60, 1, 6], { destination: Broadcast.noConfirm })).toEqual([]);
  });

  test('the self-address is answered from the own address, where that is enabled', () => {
    const [answer] = ask(started({}, { selfAddress: true }), FunctionCode.read, [60, 1, 6], {
      destination: SELF_ADDRESS,
    });
    expect(answer.frame.source).toBe(11);
    expect(ask(started(), FunctionCode.read, [60, 1, 6], { destination: SELF_ADDRESS })).toEqual([]);
  });
});

describe('link service', () => {
  test('confirmed: the link is reset, and each frame waits for its acknowledgement', () => {
    const loop = started({ linkConfirm: true });
    const primaries = loop.sent
      .filter(({ towards }) => towards === 'outstation')
      .flatMap(({ octets }) => new LinkParser().push(octets))
      .flatMap((e) => (e.type === 'frame' && e.frame.primary ? [e.frame] : []));
    expect(primaries[0].functionCode).toBe(PrimaryFunction.resetLinkStates);
    const data = primaries.slice(1);
    expect(data.every(({ functionCode }) => functionCode === PrimaryFunction.confirmedUserData)).toBe(true);
    // The frame count bit turns over with each new frame, beginning with 1 (clause 9.2.4.2).
    expect(data.map(({ countBit }) => countBit)).toEqual(data.map((_, i) => i % 2 === 0));
    expect(loop.masterEffects.find((e) => e.type === 'communication')).toMatchObject({ state: 'answering' });
  });

  test('a frame whose acknowledgement is lost is sent again unchanged, and delivered once', () => {
    const loop = new Loop(LIST, { linkConfirm: true, linkTimeoutMs: 200, responseTimeoutMs: 2000, class1PeriodMs: 0 });
    let lose = true;
    loop.wire = (octets, towards) => {
      // The first acknowledgement of user data, together with whatever was sent with it.
      if (towards === 'master' && lose && loop.outstation.counters.values.requests === 1) {
        lose = false;
        return null;
      }
      return octets;
    };
    loop.connect();
    loop.pass(1000);
    expect(loop.master.counters.values.linkRetries).toBe(1);
    expect(loop.outstation.counters.values.repeatedRequests).toBe(0);
  });

  test('a link whose reset is not acknowledged is named as why nothing is answered', () => {
    const loop = new Loop(LIST, { linkConfirm: true, linkTimeoutMs: 200, responseTimeoutMs: 2000 });
    // It answers requests, and leaves the link's own frames unanswered.
    loop.wire = (octets, towards) => (towards === 'outstation' && octets[3] === 0xc0 ? null : octets);
    loop.connect();
    loop.pass(20_000);
    const silent = loop.masterEffects.find((e) => e.type === 'communication');
    expect(silent).toMatchObject({
      state: 'silent',
      words: expect.stringMatching(
        /^no answer to \d requests: the reset of its link is not acknowledged, it may do without confirmed link service$/,
      ),
    });
  });

  test('a quiet connection is tested with a link status request', () => {
    const loop = started({ keepAliveMs: 3000, integrityPeriodMs: 0 });
    const before = loop.sent.length;
    loop.pass(3100);
    const frames = loop.sent
      .slice(before)
      .flatMap(({ octets }) => new LinkParser().push(octets))
      .flatMap((e) => (e.type === 'frame' ? [e.frame.functionCode] : []));
    expect(frames).toEqual([PrimaryFunction.requestLinkStatus, 11]);
  });
});

describe('objects', () => {
  test('double-bit inputs go packed, two bits each (g3v1)', () => {
    const loop = started();
    [2, 1, 3].forEach((value, index) => set(loop, 'doubleBit', index, value));
    const [answer] = ask(loop, FunctionCode.read, [3, 1, 6]);
    expect([...answer.fragment.subarray(4)]).toEqual([3, 1, 0, 0, 2, 0b110110]);
  });

  test('output status events (g11) and frozen counters (g21) in their variations', () => {
    const loop = started();
    const [v1] = ask(loop, FunctionCode.read, [21, 10, 6]);
    expect([...v1.fragment.subarray(4, 9)]).toEqual([21, 10, 0, 0, 2]);
    order(loop, { what: 'assignClass', eventClass: 1, group: 10, range: null });
    set(loop, 'output', 2, 1);
    const [v2] = ask(loop, FunctionCode.read, [11, 2, 6], { sequence: 9 });
    expect([...v2.fragment.subarray(4, 8)]).toEqual([11, 2, 0x17, 1]);
  });
});
