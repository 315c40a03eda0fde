import type { OwedEvent, Settled } from '@halvix/db';
import { afterEach, beforeEach, describe, expect, test, vi } from 'vitest';

/** What the ledger's tables hold, and whether they can be had. */
const base = vi.hoisted(() => ({
  settled: new Map<string, { outbound: number; queue: string; position: number; beyond: readonly number[] }>(),
  rows: [] as { id: number; events: { outbound: number; queue: string; number: number; octets: Uint8Array }[] }[],
  written: [] as { queue: string; position: number; beyond: readonly number[] }[][],
  dropped: [] as { queue: string; position: number }[][],
  fails: false,
  hold: null as Promise<void> | null,
}));
vi.mock('@halvix/db', () => {
  const check = (): void => {
    if (base.fails) throw new Error('away');
  };
  return {
    settledOf: async () => base.settled,
    lastOwedRow: async () => base.rows.at(-1)?.id ?? 0,
    lastOwed: async () => Math.max(0, ...base.rows.flatMap(({ events }) => events.map(({ number }) => number))),
    newestOwed: async () => base.rows.flatMap(({ events }) => events),
    owedBehind: async (_database: unknown, _outbound: number, behind: number, upTo: number, most: number) => {
      check();
      return base.rows.filter(({ id }) => id > behind && id <= upTo).slice(0, most);
    },
    storeSettled: async (_database: unknown, settled: { queue: string; position: number; beyond: number[] }[]) => {
      await base.hold;
      check();
      base.written.push(settled.map(({ queue, position, beyond }) => ({ queue, position, beyond })));
    },
    dropSettled: async (_database: unknown, settled: { queue: string; position: number }[]) => {
      check();
      base.dropped.push(settled.map(({ queue, position }) => ({ queue, position })));
    },
  };
});
const { Ledger } = await import('./ledger.ts');

let ledger: InstanceType<typeof Ledger>;
const settled = (position: number, beyond: number[] = [], queue = 'q'): Settled => ({
  ...{ outbound: 1, queue, position, beyond },
});
const event = (number: number, queue = 'q'): OwedEvent => ({ outbound: 1, queue, number, octets: new Uint8Array() });
const pass = (ms = 0): Promise<unknown> => vi.advanceTimersByTimeAsync(ms);

beforeEach(() => {
  vi.useFakeTimers({ now: Date.UTC(2096, 0, 1) });
  vi.spyOn(process.stdout, 'write').mockReturnValue(true);
  Object.assign(base, { settled: new Map(), rows: [], written: [], dropped: [], fails: false, hold: null });
  ledger = new Ledger({} as never, 'run');
});
afterEach(async () => {
  const end = ledger.stop();
  await pass(3000);
  await end;
  vi.useRealTimers();
  vi.restoreAllMocks();
});

describe('how far queues are settled', () => {
  test('is written at once, what comes in the same moment together', async () => {
    ledger.settle(settled(5));
    ledger.settle(settled(7, [9, 12]));
    ledger.settle(settled(3, [], 'other'));
    await pass();
    expect(base.written).toEqual([
      [
        { queue: 'q', position: 7, beyond: [9, 12] },
        { queue: 'other', position: 3, beyond: [] },
      ],
    ]);
  });

  test('never goes back, and forgets beyond what it has passed', async () => {
    ledger.settle(settled(7, [9, 12]));
    await pass();
    ledger.settle(settled(4, [20]));
    ledger.settle(settled(10));
    await pass();
    expect(base.written.at(-1)).toEqual([{ queue: 'q', position: 10, beyond: [12, 20] }]);
  });

  test('is written one at a time: what is settled meanwhile goes next', async () => {
    let letGo = (): void => {};
    base.hold = new Promise((resolve) => (letGo = resolve));
    ledger.settle(settled(1));
    await pass();
    ledger.settle(settled(2));
    ledger.settle(settled(3));
    await pass();
    expect(base.written).toEqual([]);
    base.hold = null;
    letGo();
    await pass();
    expect(base.written.map(([{ position }]) => position)).toEqual([1, 3]);
  });

  test('is tried again while the database is away, and nothing is lost by that', async () => {
    base.fails = true;
    ledger.settle(settled(5));
    await pass(2000);
    expect(base.written).toEqual([]);
    base.fails = false;
    await pass(600);
    expect(base.written).toEqual([[{ queue: 'q', position: 5, beyond: [] }]]);
  });

  test('what could not be written at the end is handed on', async () => {
    base.fails = true;
    ledger.settle(settled(5, [8]));
    const end = ledger.stop();
    await pass(3000);
    expect(await end).toEqual([{ outbound: 1, queue: 'q', position: 5, beyond: [8] }]);
  });

  test('what is under way at the end is waited for, and nothing of it handed on', async () => {
    ledger.settle(settled(5));
    const end = ledger.stop();
    await pass(10);
    expect(base.written).toEqual([[{ queue: 'q', position: 5, beyond: [] }]]);
    expect(await end).toEqual([]);
  });

  test('a write that hangs at the end is not waited for, and is handed on too', async () => {
    base.hold = new Promise(() => {});
    ledger.settle(settled(5));
    await pass();
    const end = ledger.stop();
    await pass(3000);
    expect(await end).toEqual([{ outbound: 1, queue: 'q', position: 5, beyond: [] }]);
  });
});

describe('rows that are settled', () => {
  test('go once they have been so for ten seconds, up to what was settled then', async () => {
    ledger.settle(settled(5));
    await pass(6000);
    expect(base.dropped).toEqual([]);
    ledger.settle(settled(9));
    await pass(8000);
    expect(base.dropped.at(0)).toEqual([{ queue: 'q', position: 5 }]);
    await pass(8000);
    expect(base.dropped.flat().at(-1)).toEqual({ queue: 'q', position: 9 });
  });

  test('go once, not again and again', async () => {
    ledger.settle(settled(5));
    await pass(120_000);
    expect(base.dropped).toEqual([[{ queue: 'q', position: 5 }]]);
    ledger.settle(settled(6));
    await pass(120_000);
    expect(base.dropped.slice(1)).toEqual([[{ queue: 'q', position: 6 }]]);
  });

  test('that cannot be dropped go another time', async () => {
    ledger.settle(settled(5));
    await pass(2000);
    base.fails = true;
    await pass(14_000);
    expect(base.dropped).toEqual([]);
    base.fails = false;
    await pass(4000);
    expect(base.dropped.at(0)).toEqual([{ queue: 'q', position: 5 }]);
  });
});

describe('an outbound that begins', () => {
  const given: { numbers: number[]; last: boolean }[] = [];
  const give = (events: OwedEvent[], last: boolean): void =>
    void given.push({ numbers: events.map(({ number }) => number), last });
  beforeEach(() => void given.splice(0));

  test('with nothing in the ledger owes nothing', async () => {
    expect(await ledger.open(1)).toMatchObject({ lastNumber: 0, told: [], owes: false });
  });

  test('gets what is owed, without what is settled, and knows what was told last', async () => {
    base.rows = [
      { id: 4, events: [event(1), event(2), event(3)] },
      { id: 6, events: [event(4), event(5), event(7, 'other')] },
    ];
    base.settled = new Map([['q', settled(2, [4])]]);
    const account = await ledger.open(1);
    expect([account.lastNumber, account.owes, account.told.length]).toEqual([7, true, 6]);
    const filling = account.fill(give);
    await pass(10);
    await filling;
    expect(given).toEqual([{ numbers: [3, 5, 7], last: true }]);
  });

  test('gets much in pieces, in order, the last of which says so', async () => {
    base.rows = Array.from({ length: 1200 }, (_, at) => ({ id: at + 1, events: [event(at + 1)] }));
    const account = await ledger.open(1);
    const filling = account.fill(give);
    await pass(100);
    await filling;
    expect(given.map(({ numbers, last }) => [numbers.length, last])).toEqual([
      [500, false],
      [500, false],
      [200, true],
    ]);
    expect(given.flatMap(({ numbers }) => numbers)).toEqual(base.rows.map(({ id }) => id));
  });

  test('waits for a database that is away', async () => {
    base.rows = [{ id: 1, events: [event(1)] }];
    const account = await ledger.open(1);
    base.fails = true;
    const filling = account.fill(give);
    await pass(1800);
    expect(given).toEqual([]);
    base.fails = false;
    await pass(600);
    await filling;
    expect(given).toEqual([{ numbers: [1], last: true }]);
  });
});
