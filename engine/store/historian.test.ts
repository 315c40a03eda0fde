import type { Batch, OwedEvent, Settled, StoredReading } from '@halvix/db';
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterEach, beforeEach, describe, expect, test, vi } from 'vitest';

class Refused extends Error {
  code = '22003';
}
const base = vi.hoisted(() => ({
  batches: [] as Batch[],
  settled: [] as Settled[],
  /** What the database does with a batch; by itself it stores it. */
  answer: null as null | ((batch: Batch) => Promise<string> | string),
}));
vi.mock('@halvix/db', () => ({
  RefusedReadings: Refused,
  storeBatch: async (_database: unknown, batch: Batch) => {
    const said = (await base.answer?.(batch)) ?? 'stored';
    if (said === 'stored') base.batches.push(batch);
    return said;
  },
  storeSettled: async (_database: unknown, settled: Settled[]) => void base.settled.push(...settled),
}));
const { Historian, WRITERS } = await import('./historian.ts');
const { WaitingFile } = await import('./waitingfile.ts');
type Entry = Parameters<InstanceType<typeof Historian>['add']>[0];

let folder: string;
let file: InstanceType<typeof WaitingFile>;
let historian: InstanceType<typeof Historian>;
let fenced: number;
let refused: { readings: readonly StoredReading[]; reason: string }[];
let owedStored: OwedEvent[];
let stored: string[];

beforeEach(() => {
  vi.useFakeTimers({ now: Date.UTC(2096, 0, 1) });
  vi.spyOn(process.stdout, 'write').mockReturnValue(true);
  Object.assign(base, { batches: [], settled: [], answer: null });
  [fenced, refused, owedStored, stored] = [0, [], [], []];
  folder = mkdtempSync(join(tmpdir(), 'halvix-historian-'));
  file = new WaitingFile(folder, 'run');
  historian = make(file);
});
afterEach(() => {
  file.close();
  rmSync(folder, { recursive: true, force: true });
  vi.useRealTimers();
  vi.restoreAllMocks();
});

function make(waitingFile: typeof file | null, run = 'run'): InstanceType<typeof Historian> {
  return new Historian({
    ...{ database: {} as never, run, file: waitingFile },
    fenced: () => fenced++,
    refused: (readings, why) => refused.push({ readings, reason: why }),
    owedStored: (owed) => owedStored.push(...owed),
    linkOf: (device) => `link of ${device}`,
  });
}
const reading = (value: number): StoredReading => ({
  ...{ pointId: 1, raw: value, value, quality: 0, time: 0, timeSource: 'device', received: 0, cause: 'event' },
});
const entry = (device: string, values: number[], more: Partial<Entry> = {}): Entry => ({
  ...{ device, readings: values.map(reading), keep: null, owed: [], mayDrop: false, confirms: true },
  stored: () => stored.push(`${device} ${values.join(' ')}`),
  ...more,
});
const owes = (number: number): OwedEvent => ({ outbound: 1, queue: 'q', number, octets: new Uint8Array(3) });
const pass = (ms = 0): Promise<unknown> => vi.advanceTimersByTimeAsync(ms);
const values = (): number[] => base.batches.flatMap(({ readings }) => readings.map(({ value }) => value));

describe('a batch', () => {
  test('has what came together, with what is kept and owed because of it', async () => {
    historian.add(entry('A', [1, 2], { keep: Uint8Array.of(7) }));
    historian.add(entry('B', [3], { owed: [owes(5)] }));
    await pass();
    expect(base.batches).toHaveLength(1);
    expect(base.batches[0]).toMatchObject({ writer: WRITERS[0], previous: 'run', id: 'run.1', owed: [owes(5)] });
    expect([...base.batches[0].keeps]).toEqual([['A', Uint8Array.of(7)]]);
    expect(base.batches[0].linkOf?.('A')).toBe('link of A');
    expect(values()).toEqual([1, 2, 3]);
    expect(stored).toEqual(['A 1 2', 'B 3']);
    expect(owedStored).toEqual([owes(5)]);
    expect(historian.numbers).toMatchObject({ stored: 3, batches: 1, dropped: 0, refused: 0 });
    expect(historian.queued).toBe(0);
  });

  test('goes on from the mark of the one before it', async () => {
    for (const value of [1, 2]) {
      historian.add(entry('A', [value]));
      await pass();
    }
    expect(base.batches.map(({ previous, id }) => [previous, id])).toEqual([
      ['run', 'run.1'],
      ['run.1', 'run.2'],
    ]);
  });

  test('three are under way at a time, but never two with the memory of one session', async () => {
    const waiting: (() => void)[] = [];
    base.answer = () => new Promise((resolve) => waiting.push(() => resolve('stored')));
    for (const value of [1, 2, 3, 4]) {
      historian.add(entry('A', [value], { keep: Uint8Array.of(value) }));
      historian.add(entry(`B${value}`, [10 + value]));
      await pass();
    }
    expect(waiting).toHaveLength(3);
    expect(historian.queued).toBe(8);
    waiting[0]();
    await pass();
    // The next of A goes as soon as the one before it is stored.
    expect(values()).toEqual([1, 11]);
    while (waiting.length > 0) {
      waiting.shift()!();
      await pass();
    }
    expect(values().filter((value) => value < 10)).toEqual([1, 2, 3, 4]);
    expect(base.batches.findLast(({ keeps }) => keeps.size > 0)!.keeps.get('A')).toEqual(Uint8Array.of(4));
    expect(values().toSorted((a, b) => a - b)).toEqual([1, 2, 3, 4, 11, 12, 13, 14]);
  });
});

describe('a database that takes nothing', () => {
  test('is tried again, later and later, with the same batch, until it does', async () => {
    const tries: number[] = [];
    base.answer = () => {
      tries.push(Date.now());
      throw new Error('away');
    };
    historian.add(entry('A', [1]));
    await pass(12_000);
    expect(tries.slice(1).map((at, i) => at - tries[i])).toEqual([200, 400, 800, 1600, 3200, 5000]);
    expect(historian.problem).not.toBeNull();
    expect(stored).toEqual([]);
    base.answer = null;
    await pass(5000);
    expect(base.batches[0].id).toBe('run.1');
    expect(historian.problem).toBeNull();
    expect(stored).toEqual(['A 1']);
  });

  test('that holds a batch for more than three seconds is a problem too, with how long', async () => {
    base.answer = () => new Promise(() => {});
    historian.add(entry('A', [1]));
    await pass(3000);
    expect(historian.problem).toBeNull();
    await pass(1001);
    expect(historian.problem).toBe('it has taken nothing for 4 s');
  });

  test('which another engine writes to is left to it', async () => {
    base.answer = () => 'fenced';
    historian.add(entry('A', [1]));
    await pass();
    expect([fenced, stored]).toEqual([1, []]);
  });

  test('a batch that went through at an earlier try is not stored again', async () => {
    base.answer = () => 'storedBefore';
    historian.add(entry('A', [1]));
    await pass();
    expect([stored, base.batches]).toEqual([['A 1'], []]);
  });
});

describe('bad data', () => {
  beforeEach(() => {
    base.answer = ({ readings }) => {
      if (readings.some(({ value }) => value < 0)) throw new Refused('out of range');
      return 'stored';
    };
  });

  test('is found and put aside; all other readings are stored, each device told once', async () => {
    historian.add(entry('A', [1, 2]));
    historian.add(entry('B', [3, -4, 5, 6], { keep: Uint8Array.of(9), owed: [owes(1)] }));
    historian.add(entry('C', [7]));
    await pass();
    expect(values()).toEqual([1, 2, 3, 5, 6, 7]);
    expect(refused).toMatchObject([{ readings: [{ value: -4 }], reason: 'out of range (SQLSTATE 22003)' }]);
    expect(historian.numbers).toMatchObject({ refused: 1, stored: 6 });
    expect(stored).toEqual(['A 1 2', 'B 3 -4 5 6', 'C 7']);
    // What the session keeps and what is owed go with the last of them.
    const carrying = base.batches.filter(({ keeps, owed }) => keeps.size + owed.length > 0);
    expect(carrying.map(({ readings }) => readings.map(({ value }) => value))).toEqual([[5, 6]]);
    expect(new Set(base.batches.map(({ id }) => id)).size).toBe(base.batches.length);
  });

  test('alone leaves what goes with it', async () => {
    historian.add(entry('B', [-4], { keep: Uint8Array.of(9) }));
    await pass();
    expect(values()).toEqual([]);
    expect([...base.batches[0].keeps]).toEqual([['B', Uint8Array.of(9)]]);
    expect(stored).toEqual(['B -4']);
  });
});

describe('what waits', () => {
  const many = (count: number): number[] => new Array<number>(count).fill(1);
  beforeEach(() => {
    base.answer = () => new Promise(() => {});
  });

  test('beyond what memory holds goes to the file, in order, but for what devices keep or what are only looks', async () => {
    const lone = { confirms: false };
    historian.add(entry('A', many(50_001), lone));
    historian.add(entry('A', [2], lone));
    expect(file.isEmpty).toBe(false);
    const before = historian.inFile;
    historian.add(entry('A', [3]));
    historian.add(entry('A', [4], { ...lone, mayDrop: true }));
    expect(historian.inFile).toBe(before);
    historian.add(entry('A', [5], lone));
    expect(historian.inFile).toBeGreaterThan(before);
    expect(historian.numbers.dropped).toBe(0);
  });

  test('below that stays in memory', () => {
    historian.add(entry('A', many(49_000), { confirms: false }));
    historian.add(entry('A', [2], { confirms: false }));
    expect(file.isEmpty).toBe(true);
  });

  test('without a file has a bound too, and what is beyond it is counted', () => {
    historian = make(null);
    historian.add(entry('A', many(1_000_001), { confirms: false }));
    historian.add(entry('A', [2, 3], { confirms: false }));
    expect(historian.numbers.dropped).toBe(2);
    historian.add(entry('A', [4]));
    expect(historian.numbers.dropped).toBe(2);
  });

  test('looks beyond a bound are dropped and counted', () => {
    historian.add(entry('A', many(200_001), { mayDrop: true }));
    historian.add(entry('A', [2], { mayDrop: true }));
    expect(historian.numbers.dropped).toBe(1);
  });

  test('in the file is stored once the database takes it, behind what was in memory', async () => {
    let open: () => void = () => {};
    base.answer = () => new Promise((resolve) => (open = () => resolve('stored')));
    historian.add(entry('A', many(50_001), { confirms: false }));
    await pass();
    historian.add(entry('A', [2], { confirms: false, owed: [owes(8)] }));
    // Nothing comes any more: what was in memory is stored, and the file's turn comes by itself.
    await pass();
    base.answer = null;
    open();
    await pass(100);
    expect(values().slice(-1)).toEqual([2]);
    expect(file.isEmpty).toBe(true);
    expect(base.batches.at(-1)!.owed).toMatchObject([{ number: 8 }]);
  });
});

describe('an orderly end', () => {
  test('waits for what is under way', async () => {
    historian.add(entry('A', [1]));
    const ended = historian.stop();
    await pass(20);
    await ended;
    expect(values()).toEqual([1]);
  });

  test('puts aside what the database does not take, and the next run stores it once', async () => {
    base.answer = () => new Promise(() => {});
    historian.add(entry('A', [1], { confirms: false, keep: Uint8Array.of(1) }));
    await pass();
    historian.add(entry('A', [2], { confirms: false, keep: Uint8Array.of(2), owed: [owes(3)] }));
    historian.add(entry('B', [3]));
    historian.add(entry('C', [4], { confirms: false, mayDrop: true }));
    const settled = { outbound: 1, queue: 'q', position: 2, beyond: [] };
    let over = false;
    const ended = historian.stop([settled]).then(() => (over = true));
    await pass(2990);
    expect(over).toBe(false);
    await pass(30);
    await ended;
    base.answer = null;
    file = new WaitingFile(folder, 'next');
    expect(file.open(null)).toBe('run');
    historian = make(file, 'next');
    // The batch that was under way had gone through.
    const keeps = await historian.takeUp(true, new Map([[WRITERS[0], 'run.1']]));
    expect(values()).toEqual([2]);
    expect(keeps).toEqual(new Map([['A', Uint8Array.of(2)]]));
    expect(base.settled).toEqual([settled]);
    expect(base.batches[0].owed).toMatchObject([{ number: 3 }]);
    expect(file.isEmpty).toBe(true);
  });

  test('what was being stored from the file, and was not, is there for the next run', async () => {
    file.add({ device: 'A', readings: [reading(1)], keep: null, owed: [], settled: [] });
    file.close();
    const next = (run: string): void => {
      file = new WaitingFile(folder, run);
      file.open(null);
      historian = make(file, run);
    };
    next('second');
    // It begins to store what is there while the database is away, and ends before that is done.
    base.answer = () => Promise.reject(new Error('away'));
    let over = false;
    void historian.takeUp(true, new Map()).then(() => (over = true));
    await pass(300);
    void historian.stop();
    await pass(10_000);
    expect(over).toBe(true);
    base.answer = null;
    next('third');
    await historian.takeUp(true, new Map());
    expect(values()).toEqual([1]);
  });

  test('a batch of which nobody knows, and which did not go through, is stored by the next run', async () => {
    base.answer = () => new Promise(() => {});
    historian.add(entry('A', [1], { confirms: false, keep: Uint8Array.of(1) }));
    await pass();
    const ended = historian.stop();
    await pass(3100);
    await ended;
    base.answer = null;
    file = new WaitingFile(folder, 'next');
    expect(file.open(null)).toBe('run');
    historian = make(file, 'next');
    const keeps = await historian.takeUp(false, new Map([[WRITERS[0], 'other']]));
    expect(values()).toEqual([1]);
    // Somebody ran since: what sessions kept then is not the newest.
    expect(keeps.size).toBe(0);
    expect(base.batches[0].keeps.has('A')).toBe(false);
  });

  test('waits three seconds for a database that is away, no longer', async () => {
    base.answer = () => {
      throw new Error('away');
    };
    historian.add(entry('A', [1], { confirms: false }));
    await pass();
    let over = false;
    const ended = historian.stop().then(() => (over = true));
    await pass(2980);
    expect(over).toBe(false);
    await pass(40);
    await ended;
    file = new WaitingFile(folder, 'next');
    expect(file.open(null)).toBe('run');
  });
});
