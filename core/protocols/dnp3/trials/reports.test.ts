import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import type { PointKind } from '../../../point/index.ts';
import { LinkParser, PrimaryFunction } from '../wire/link.ts';
import { Loop } from './loop.ts';
import { DEFAULT_VARIATIONS, type OutstationPoint } from '../server/pointtable.ts';
import type { MasterSettings, OutstationSettings } from '../settings.ts';
import { octetsOf, textOf } from '../wire/text.ts';

const point = (kind: PointKind, index: number, more: Partial<OutstationPoint> = {}): OutstationPoint => ({
  kind,
  index,
  class: 1,
  staticVariation: DEFAULT_VARIATIONS[kind].static,
  eventVariation: DEFAULT_VARIATIONS[kind].event,
  deadband: 0,
  ...more,
});
const LIST = (['output', 'setpoint', 'text', 'counter'] as const).flatMap((kind) =>
  [0, 1, 2, 5].map((index) => point(kind, index, { commandClass: 2 })),
);
function started(
  master: Partial<MasterSettings> = {},
  outstation: Partial<OutstationSettings> = {},
  points = LIST,
): Loop {
  const loop = new Loop(points, { class3PeriodMs: 0, ...master }, outstation);
  loop.connect();
  loop.pass(100);
  return loop;
}
const say = (loop: Loop, index: number, text: string, quiet = false): void =>
  loop.toOutstation({
    type: 'update',
    updates: [{ kind: 'text', index, value: 0, text, flags: 1, time: loop.now }],
    quiet,
  });
const texts = (loop: Loop, event: boolean): [number, string | undefined][] =>
  loop.masterEffects.flatMap((e) =>
    e.type === 'readings'
      ? e.readings
          .filter((r) => r.kind === 'text' && r.event === event)
          .map((r) => [r.index, r.text] as [number, string])
      : [],
  );

describe('texts', () => {
  test('come with the present values, each with its own length, and as events when they change', () => {
    const loop = started();
    say(loop, 0, 'firmware 4.1', true);
    say(loop, 1, 'firmware 4.2', true);
    say(loop, 5, 'x'.repeat(255), true);
    loop.toMaster({ type: 'pollNow' });
    loop.pass(100);
    expect(texts(loop, false).slice(-4)).toEqual([
      [0, 'firmware 4.1'],
      [1, 'firmware 4.2'],
      [2, ''],
      [5, 'x'.repeat(255)],
    ]);
    say(loop, 1, 'gate 1: obstructed');
    say(loop, 2, 'B');
    say(loop, 2, 'B');
    loop.pass(1500);
    expect(texts(loop, true)).toEqual([
      [1, 'gate 1: obstructed'],
      [2, 'B'],
    ]);
    expect(loop.outstation.events.size).toBe(0);
  });

  test('one that no fragment can carry is cut, and nothing waits for ever', () => {
    const loop = started({ maxFragment: 249 }, { maxFragment: 249 });
    say(loop, 0, 'y'.repeat(255));
    say(loop, 1, 'after it');
    loop.pass(3000);
    loop.toMaster({ type: 'pollNow' });
    loop.pass(1000);
    expect(texts(loop, true)).toEqual([
      [0, 'y'.repeat(236)],
      [1, 'after it'],
    ]);
    expect(texts(loop, false).filter(([, text]) => text !== '')).toContainEqual([0, 'y'.repeat(236)]);
    expect(loop.outstation.events.size).toBe(0);
    expect(loop.sent.length).toBeLessThan(60);
  });

  test('is only confirmed once it is stored', () => {
    const loop = started();
    loop.holdCommits = true;
    say(loop, 0, 'kept');
    loop.pass(1500);
    expect(texts(loop, true)).toEqual([[0, 'kept']]);
    expect(loop.outstation.events.size).toBe(1);
  });

  test('octets and text are each other, but for zeros', () =>
    fc.assert(
      fc.property(fc.uint8Array({ minLength: 1, maxLength: 255 }), (octets) => {
        const back = octetsOf(textOf(octets));
        const plain = octets.map((octet) => (octet === 0 ? 0x20 : octet));
        expect([...plain.subarray(0, back.length)].join()).toBe([...back].map((o) => o || 0x20).join());
        expect(textOf(back)).toBe(textOf(octets));
      }),
    ));
});

describe('commands that outputs were given', () => {
  const given = (loop: Loop): object[] =>
    loop.masterEffects.flatMap((e) => (e.type === 'commandsReported' ? e.commands : []));

  test('are events of their class, with value, status and time', () => {
    const loop = started();
    const at = loop.now;
    loop.toOutstation({ type: 'commandGiven', kind: 'output', index: 1, value: 1, status: 0, time: at });
    loop.toOutstation({ type: 'commandGiven', kind: 'output', index: 2, value: 0, status: 7, time: at + 5 });
    loop.toOutstation({ type: 'commandGiven', kind: 'setpoint', index: 5, value: -70_000, status: 0, time: at + 9 });
    loop.pass(1500);
    expect(given(loop)).toEqual([
      { kind: 'output', index: 1, value: 1, status: 0, time: at },
      { kind: 'output', index: 2, value: 0, status: 7, time: at + 5 },
      { kind: 'setpoint', index: 5, value: -70_000, status: 0, time: at + 9 },
    ]);
    // They are no values of the points.
    const readings = loop.masterEffects.flatMap((e) => (e.type === 'readings' ? e.readings : []));
    expect(readings.filter(({ event }) => event)).toEqual([]);
    expect(loop.outstation.events.size).toBe(0);
  });

  test('are not reported of a point without a class for them', () => {
    const loop = started({}, {}, [point('output', 0)]);
    loop.toOutstation({ type: 'commandGiven', kind: 'output', index: 0, value: 1, status: 0, time: loop.now });
    loop.pass(3000);
    expect(given(loop)).toEqual([]);
  });
});

test('a control without an answer is sent once, and nothing is claimed of it', () => {
  const loop = started();
  const block = { code: 0x03, count: 1, onMs: 0, offMs: 0 };
  loop.toMaster({ type: 'control', id: 'c', index: 1, block, mode: 'directNoAnswer', expiresAt: loop.now + 5000 });
  loop.pass(5000);
  const steps = loop.masterEffects.flatMap((e) => (e.type === 'control' ? [e.step] : []));
  expect(steps).toEqual(['operateSent', 'unanswered']);
  expect(loop.outstationEffects.filter((e) => e.type === 'control')).toHaveLength(1);
  expect(loop.master.counters.values.timeouts).toBe(0);
});

describe('to all devices of a line', () => {
  const broadcast = (loop: Loop, job: 'freeze' | 'freezeAndClear' | 'time'): void => {
    loop.toMaster({ type: 'order', id: job, order: { what: 'broadcast', job } });
    loop.pass(500);
  };

  test('counters are frozen, and begin anew where that is wanted', () => {
    const loop = started({}, {}, [point('counter', 0), point('frozenCounter', 0)]);
    const count = (value: number): void =>
      loop.toOutstation({
        type: 'update',
        updates: [{ kind: 'counter', index: 0, value, flags: 1, time: loop.now }],
        quiet: true,
      });
    count(41);
    broadcast(loop, 'freeze');
    expect(loop.outstation.point('frozenCounter', 0)?.value).toBe(41);
    count(52);
    broadcast(loop, 'freezeAndClear');
    expect(loop.outstation.point('frozenCounter', 0)?.value).toBe(52);
    expect(loop.outstation.point('counter', 0)?.value).toBe(0);
    const ended = loop.masterEffects.flatMap((e) => (e.type === 'ordered' ? [[e.id, e.problem]] : []));
    expect(ended).toEqual([
      ['freeze', null],
      ['freezeAndClear', null],
    ]);
    const destinations = loop.sent
      .filter(({ towards }) => towards === 'outstation')
      .flatMap(({ octets }) => new LinkParser().push(octets))
      .flatMap((e) => (e.type === 'frame' ? [e.frame.destination] : []));
    expect(destinations.filter((address) => address === 0xfffd)).toHaveLength(2);
    expect(loop.master.counters.values.timeouts).toBe(0);
  });

  test('the time is recorded and then told', () => {
    const loop = started({}, { takesTime: true });
    const at = loop.now;
    broadcast(loop, 'time');
    const written = loop.outstationEffects.flatMap((e) => (e.type === 'timeWritten' ? [e.time] : []));
    expect(Math.abs(written[written.length - 1] - at)).toBeLessThan(20);
  });
});

test('an outstation too has its link frames confirmed, and repeats one that is not', () => {
  const loop = started({ linkConfirm: true }, { linkConfirm: true });
  const functions = (towards: 'master' | 'outstation'): number[] =>
    loop.sent
      .filter((one) => one.towards === towards)
      .flatMap(({ octets }) => new LinkParser().push(octets))
      .flatMap((e) => (e.type === 'frame' && e.frame.primary ? [e.frame.functionCode] : []));
  expect(functions('master')[0]).toBe(PrimaryFunction.resetLinkStates);
  expect(functions('master')).toContain(PrimaryFunction.confirmedUserData);
  expect(functions('master')).not.toContain(PrimaryFunction.unconfirmedUserData);
  let lost = 0;
  loop.wire = (octets, towards) => {
    const carriesData = new LinkParser()
      .push(octets)
      .some((e) => e.type === 'frame' && e.frame.functionCode === PrimaryFunction.confirmedUserData);
    return towards === 'master' && carriesData && lost++ === 0 ? null : octets;
  };
  say(loop, 0, 'once');
  loop.pass(4000);
  expect(lost).toBeGreaterThan(1);
  expect(texts(loop, true)).toEqual([[0, 'once']]);
  expect(loop.outstation.counters.values.linkRetries).toBeGreaterThan(0);
});
