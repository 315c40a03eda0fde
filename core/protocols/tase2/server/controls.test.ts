import { beforeEach, describe, expect, test } from 'vitest';
import type { CentreOrder, ControlOutcome } from '../../control.ts';
import { AccessError, type Data } from '../../mms/wire/data.ts';
import { tagData, type Tag } from '../tags.ts';
import { offered } from '../trials/both.ts';
import { Controls, errorOf, type Operated } from './controls.ts';

const SELECT_MS = 5000;
const [WEST, EAST] = [1, 2];
const DONE: ControlOutcome = { result: 'done', status: null, protocol: null };
const operated = (...of: Parameters<typeof offered>): Operated => ({ point: offered(...of), address: of[1] });
const TRIP = operated('output', 'TRIP', 'Command', { select: true, tag: true });
const LAMP = operated('output', 'LAMP', 'Command', { tag: true });
const LIMIT = operated('setpoint', 'LIMIT', 'SetpointReal', { tag: true });
const STEPS = operated('setpoint', 'STEPS', 'SetpointDiscrete');
const whole = (value: number): Data => ({ type: 'integer', value });
const real = (value: number): Data => ({ type: 'float', value, width: 32 });

let controls: Controls;
let orders: { order: CentreOrder; phase: string; peer: number }[];
let notes: string[];
let kept: Uint8Array[];
const lines = (octets: Uint8Array): string => new TextDecoder().decode(octets);
const make = (remembered: readonly string[] = []): Controls =>
  new Controls(
    SELECT_MS,
    {
      order: (order, phase, peer, done) => {
        orders.push({ order, phase, peer });
        done(DONE);
      },
      note: (words) => void notes.push(words),
      keep: (octets) => void kept.push(octets),
    },
    remembered,
  );
beforeEach(() => {
  [orders, notes, kept] = [[], [], []];
  controls = make();
});
const operate = (what: Operated, value: Data, peer = WEST, now = 0): number | null | undefined => {
  let said: number | null | undefined;
  controls.operate(what, value, peer, now, (error) => (said = error));
  return said;
};
const select = (what: Operated, peer = WEST, now = 0): number => {
  const answer = controls.select(what, peer, now);
  return answer.type === 'integer' ? Number(answer.value) : answer.type === 'failure' ? -answer.code : NaN;
};
const tag = (what: Operated, inhibits: Tag['inhibits'], reason = ''): number | null =>
  controls.tag(what, tagData({ inhibits, reason }), 'a test');

describe('selecting', () => {
  test('is for one association, gives a check-back each time, and is used up by the operate', () => {
    expect([select(TRIP), select(TRIP)]).toEqual([1, 2]);
    expect(select(TRIP, EAST)).toBe(-AccessError.temporarilyUnavailable);
    expect(operate(TRIP, whole(1), EAST)).toBe(AccessError.denied);
    expect(operate(TRIP, whole(1))).toBeNull();
    expect(operate(TRIP, whole(1))).toBe(AccessError.denied);
    expect(orders.map(({ phase, peer }) => [phase, peer])).toEqual([['operate', WEST]]);
  });

  test('runs out, and somebody else may select then', () => {
    select(TRIP);
    expect(operate(TRIP, whole(0), WEST, SELECT_MS)).toBe(AccessError.denied);
    select(TRIP);
    expect(select(TRIP, EAST, SELECT_MS)).toBe(3);
    expect(orders).toEqual([]);
  });

  test('goes with its association, and with a local reset', () => {
    select(TRIP);
    controls.left(EAST);
    expect(select(TRIP, EAST)).toBe(-AccessError.temporarilyUnavailable);
    controls.left(WEST);
    expect(select(TRIP, EAST)).toBe(2);
    expect([controls.takeBack(1), controls.takeBack(1)]).toEqual([1, 0]);
    expect(operate(TRIP, whole(1), EAST)).toBe(AccessError.denied);
    // What has run out was not selected any more.
    select(TRIP);
    expect(controls.takeBack(SELECT_MS)).toBe(0);
  });
});

describe('what is written', () => {
  test.each<[string, Operated, Data, number | null]>([
    ['on', LAMP, whole(1), null],
    ['off', LAMP, { type: 'unsigned', value: 0 }, null],
    ['neither', LAMP, whole(2), AccessError.valueInvalid],
    ['a number with a point for a command', LAMP, real(1), AccessError.typeInconsistent],
    ['a text', LAMP, { type: 'text', text: '1', wide: false }, AccessError.typeInconsistent],
    ['a set point', LIMIT, real(12.5), null],
    ['a set point as a whole number', LIMIT, whole(12), AccessError.typeInconsistent],
    ['a set point that is no number', LIMIT, real(NaN), AccessError.typeInconsistent],
    ['a set point without an end', LIMIT, real(Infinity), AccessError.valueInvalid],
    ['steps', STEPS, whole(-4), null],
    ['steps with a point', STEPS, real(4), AccessError.typeInconsistent],
  ])('%s', (_what, point, value, error) => {
    expect(operate(point, value)).toBe(error);
    expect(orders).toHaveLength(error === null ? 1 : 0);
  });
});

describe('tags', () => {
  test('inhibit what they say, of commands and set points', () => {
    tag(LAMP, 'close');
    expect([operate(LAMP, whole(1)), operate(LAMP, whole(0))]).toEqual([AccessError.denied, null]);
    tag(LAMP, 'open and close');
    expect([operate(LAMP, whole(1)), operate(LAMP, whole(0))]).toEqual([AccessError.denied, AccessError.denied]);
    tag(LIMIT, 'close');
    expect(operate(LIMIT, real(1))).toBeNull();
    tag(LIMIT, 'open and close');
    expect(operate(LIMIT, real(1))).toBe(AccessError.denied);
    tag(LIMIT, 'nothing');
    expect(operate(LIMIT, real(2))).toBeNull();
    expect(notes.filter((words) => words.startsWith('a control of'))).toHaveLength(4);
  });

  test('are there in the next session, whole or piece by piece; the last one counts', () => {
    tag(LAMP, 'close', 'first');
    tag(TRIP, 'open and close', 'second');
    tag(LAMP, 'nothing');
    for (const remembered of [kept.map(lines), [controls.kept]]) {
      const next = make(remembered);
      expect([...next.tagged]).toEqual([['TRIP', { inhibits: 'open and close', reason: 'second' }]]);
    }
    // What is not understood is nothing.
    expect(make(['\u0001\u0002']).tagged.size).toBe(0);
    expect(make(['{"LAMP":{"inhibits":"everything","reason":""}}']).tagged.size).toBe(0);
  });

  test('of no such form, too long, or by nobody who may operate are refused', () => {
    expect(controls.tag(LAMP, whole(1), 'a test')).toBe(AccessError.typeInconsistent);
    expect(tag(LAMP, 'close', 'x'.repeat(256))).toBe(AccessError.valueInvalid);
    const closed = { ...LAMP, point: { ...LAMP.point, mayOperate: false } };
    expect(tag(closed, 'close')).toBe(AccessError.denied);
    expect([controls.tagged.size, kept.length]).toEqual([0, 0]);
  });

  test('are all taken off at once', () => {
    tag(LAMP, 'close');
    tag(TRIP, 'close');
    expect([controls.takeTagsOff(), controls.takeTagsOff()]).toEqual([2, 0]);
    expect(make(kept.map(lines)).tagged.size).toBe(0);
  });
});

/** docs/quality.md, “Controls”. */
test.each<[ControlOutcome | undefined, number | null]>([
  [DONE, null],
  [undefined, AccessError.denied],
  [{ ...DONE, result: 'notSupported' }, AccessError.nonExistent],
  [{ ...DONE, result: 'outOfRange' }, AccessError.valueInvalid],
  [{ ...DONE, result: 'failed' }, AccessError.hardwareFault],
  [{ ...DONE, result: 'refused', refusal: 'busy' }, AccessError.temporarilyUnavailable],
  [{ ...DONE, result: 'refused', refusal: 'outOfRange' }, AccessError.valueInvalid],
  [{ ...DONE, result: 'refused', refusal: 'lost' }, AccessError.hardwareFault],
  [{ ...DONE, result: 'refused', refusal: 'local' }, AccessError.denied],
  [{ ...DONE, result: 'notAuthorized' }, AccessError.denied],
])('what came of a control is told by one error: %j', (outcome, error) => expect(errorOf(outcome)).toBe(error));
