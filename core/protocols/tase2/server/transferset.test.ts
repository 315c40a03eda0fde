import { beforeEach, describe, expect, test } from 'vitest';
import { AccessError, type Data } from '../../mms/wire/data.ts';
import type { ObjectName } from '../../mms/wire/names.ts';
import { wantedData, type TransferSetValues } from '../transfer.ts';
import type { ServerEffect } from '../../server.ts';
import { CriticalChanges } from './critical.ts';
import { TransferSet, type TransferReport } from './transferset.ts';

const dataSet: ObjectName = { scope: 'domain', domain: 'VBU', item: 'DS1' };
const wish: TransferSetValues = {
  ...{ dataSet, start: 0, interval: 0, limit: 0, buffer: 0, integrity: 0, conditions: ['object change'] },
  ...{ blocked: false, critical: false, byException: true, all: true, enabled: true, eventCode: 0 },
};
const value = (number: number): Data => ({ type: 'integer', value: number });

let now: number;
let present: number;
let reports: (TransferReport & { at: number })[];
let set: TransferSet;
let effects: ServerEffect[];
beforeEach(() => {
  now = 1_000_000;
  present = 1;
  reports = [];
  effects = [];
  set = new TransferSet(
    { scope: 'domain', domain: 'VBU', item: 'DSTransferSet01' },
    {
      members: ({ item }) => (item === 'DS1' ? ['VBU/A', 'VBU/B'] : null),
      send: (_set, report) => void reports.push({ ...report, at: now }),
      packs: false,
      values: () => new Map([['VBU/A', value(present)]]),
      critical: new CriticalChanges((effect) => effects.push(effect), [], { lastNumber: 0, owes: false }),
    },
  );
});
const ask = (change: Partial<TransferSetValues> = {}, peer = 1): number | null =>
  set.write(null, wantedData({ ...wish, ...change }), peer, now);
/** Time passes, deadline by deadline. */
function pass(ms: number): void {
  const end = now + ms;
  for (; set.deadline <= end;) {
    now = Math.max(now, set.deadline);
    set.wake(now);
  }
  now = end;
}
const told = (): [number, string, Record<string, number> | 'all'][] =>
  reports.map(({ at, conditions, changed }) => [
    at - 1_000_000,
    conditions.join(),
    changed === null
      ? 'all'
      : Object.fromEntries(
          [...changed].map(([name, data]) => [name, data.type === 'integer' ? Number(data.value) : NaN]),
        ),
  ]);

describe('a transfer set', () => {
  test('by exception tells what has changed, each change by itself', () => {
    expect(ask()).toBeNull();
    set.changed('VBU/A', value(1), now);
    set.changed('VBU/B', value(2), now);
    set.changed('VBU/A', value(3), now);
    set.changed('VBU/C', value(9), now);
    pass(10);
    expect(told()).toEqual([
      [0, 'object change', { 'VBU/A': 1, 'VBU/B': 2 }],
      [0, 'object change', { 'VBU/A': 3 }],
    ]);
  });

  test('gathers for its buffer time; without “all changes” the last one of each is enough', () => {
    ask({ buffer: 2, all: false });
    set.changed('VBU/A', value(1), now);
    pass(1500);
    set.changed('VBU/A', value(2), now);
    expect(told()).toEqual([]);
    pass(1000);
    expect(told()).toEqual([[2000, 'object change', { 'VBU/A': 2 }]]);
  });

  test('without report by exception tells everything when something has changed', () => {
    ask({ byException: false });
    set.changed('VBU/A', value(1), now);
    pass(10);
    expect(told()).toEqual([[0, 'object change', 'all']]);
  });

  test('says everything at once and each integrity period, and each interval', () => {
    ask({ conditions: ['integrity time-out', 'interval time-out'], integrity: 60, interval: 25 });
    pass(61_000);
    expect(told()).toEqual([
      [0, 'integrity time-out', 'all'],
      [25_000, 'interval time-out', 'all'],
      [50_000, 'interval time-out', 'all'],
      [60_000, 'integrity time-out', 'all'],
    ]);
    // A change is none of its conditions.
    set.changed('VBU/A', value(1), now);
    pass(100);
    expect(reports).toHaveLength(4);
  });

  test('says everything at an operator’s request and at an external event, where it asked for that', () => {
    ask({ conditions: ['operator request', 'other external event'], eventCode: 17 });
    expect([set.request('operator request', now), set.request('other external event', now)]).toEqual([true, true]);
    expect(set.request('interval time-out', now)).toBe(false);
    expect(told()).toEqual([
      [0, 'operator request', 'all'],
      [0, 'other external event', 'all'],
    ]);
    expect(reports.map(({ eventCode }) => eventCode)).toEqual([17, 17]);
    set.left(1);
    expect(set.request('operator request', now)).toBe(false);
  });

  test('says how it stands, and how often a critical report went out again', () => {
    expect(set.standing).toMatchObject({ state: 'free', peer: null });
    ask({ critical: true, limit: 5, conditions: ['integrity time-out'], integrity: 60 });
    pass(11_000);
    expect(set.standing).toMatchObject({ state: 'waits for its acknowledgement', peer: 1, reports: 3, repeats: 2 });
    set.acknowledged(1, 1000, now);
    expect(set.standing).toMatchObject({ state: 'enabled', lastAt: 1_010_000 });
  });

  test('begins at its start time, and tells of nothing before', () => {
    ask({ start: 1010, conditions: ['object change', 'integrity time-out'], integrity: 5 });
    set.changed('VBU/A', value(1), now);
    pass(9000);
    expect(told()).toEqual([]);
    pass(1500);
    expect(told()).toEqual([[10_000, 'integrity time-out', 'all']]);
    set.changed('VBU/A', value(2), now);
    pass(10);
    expect(told().at(-1)).toEqual([10_500, 'object change', { 'VBU/A': 2 }]);
  });

  test('is enabled, disabled and free again; nothing that waited is told afterwards', () => {
    ask({ buffer: 5 });
    expect(set.isFree(now)).toBe(false);
    expect(ask()).toBe(AccessError.temporarilyUnavailable);
    set.changed('VBU/A', value(1), now);
    expect(set.write('Status', { type: 'boolean', value: false }, 1, now)).toBeNull();
    pass(10_000);
    expect([told(), set.isFree(now)]).toEqual([[], true]);
    expect(set.write('Status', { type: 'boolean', value: true }, 1, now)).toBeNull();
    set.left(1);
    expect([set.isEnabled, set.isFree(now)]).toEqual([false, true]);
  });

  test('is one client’s alone, from when its name was given', () => {
    set.reserve(1, now);
    expect(set.isFree(now)).toBe(false);
    expect(ask({}, 2)).toBe(AccessError.denied);
    // Nobody came for it.
    now += 60_000;
    expect([set.isFree(now), ask({}, 2)]).toEqual([true, null]);
  });

  test('a critical report is repeated until it is acknowledged, and nothing overtakes it', () => {
    ask({ critical: true, limit: 5, conditions: ['object change', 'integrity time-out'], integrity: 60 });
    pass(10);
    set.changed('VBU/A', value(1), now);
    set.changed('VBU/A', value(2), now);
    pass(11_000);
    expect(told()).toEqual([0, 5000, 10_000].map((at) => [at, 'integrity time-out', 'all']));
    set.acknowledged(1, 999, now);
    set.acknowledged(2, 1000, now);
    pass(1000);
    expect(reports).toHaveLength(3);
    set.acknowledged(1, 1000, now);
    expect(told().at(-1)).toEqual([12_010, 'object change', { 'VBU/A': 1 }]);
    set.acknowledged(1, 1012, now);
    expect(told().at(-1)).toEqual([12_010, 'object change', { 'VBU/A': 2 }]);
    expect(reports).toHaveLength(5);
    // An integrity period that passes meanwhile is made up for.
    pass(50_000);
    const count = reports.length;
    set.acknowledged(1, 1012, now);
    expect(told().slice(count)).toMatchObject([[62_010, 'integrity time-out', 'all']]);
  });

  test('a critical report of everything is repeated with the values and the time that it had', () => {
    ask({ critical: true, limit: 5, conditions: ['integrity time-out'], integrity: 60 });
    pass(10);
    present = 2;
    pass(6000);
    expect(reports.map(({ all, seconds }) => [[...(all ?? [])], seconds])).toEqual(
      [1, 2].map(() => [[['VBU/A', value(1)]], 1000]),
    );
    // One that nobody has to acknowledge is as it is when it goes out.
    set.acknowledged(1, 1000, now);
    set.write('Status', { type: 'boolean', value: false }, 1, now);
    ask({ conditions: ['integrity time-out'], integrity: 60 });
    pass(10);
    expect(reports.at(-1)?.all).toBeNull();
  });

  test('a critical report that is refused goes out again soon, and then at its time limit', () => {
    ask({ critical: true, limit: 30, conditions: ['integrity time-out'], integrity: 600 });
    pass(10);
    set.refused(1, 999, now);
    set.refused(2, 1000, now);
    set.refused(1, 1000, now);
    pass(32_000);
    expect(told().map(([at]) => at)).toEqual([0, 1010, 31_010]);
  });

  test.each<[Partial<TransferSetValues>, number]>([
    [{ dataSet: { scope: 'domain', domain: 'VBU', item: 'NONE' } }, AccessError.undefined],
    [{ conditions: [] }, AccessError.valueInvalid],
    [{ interval: -1 }, AccessError.valueInvalid],
    [{ blocked: true }, AccessError.accessUnsupported],
  ])('what it cannot do it does not promise: %j', (change, error) => {
    expect(ask(change)).toBe(error);
    expect(set.isEnabled).toBe(false);
  });

  test('what is no such structure is refused', () => {
    expect(set.write(null, value(1), 1, now)).toBe(AccessError.typeInconsistent);
    expect(set.write('Interval', { type: 'boolean', value: true }, 1, now)).toBe(AccessError.typeInconsistent);
    expect(set.write('Nothing', value(1), 1, now)).toBe(AccessError.nonExistent);
  });
});
