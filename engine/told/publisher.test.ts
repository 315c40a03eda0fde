import { afterEach, beforeEach, describe, expect, test, vi } from 'vitest';

const written = vi.hoisted(() => ({ calls: [] as string[], fails: false, hold: null as Promise<void> | null }));
vi.mock('@halvix/db', () => {
  const call =
    (name: string) =>
    async (_database: unknown, ...rest: unknown[]): Promise<void> => {
      if (written.hold !== null) await written.hold;
      if (written.fails) throw new Error('away');
      written.calls.push(
        `${name} ${rest.map((one) => (Array.isArray(one) ? one.length : String(one))).join(' ')}`.trim(),
      );
    };
  return {
    writeLatest: call('latest'),
    writeHopStates: call('hops'),
    writeTrails: call('trails'),
    writeJournal: call('journal'),
    notify: call('notify'),
  };
});
const { Publisher } = await import('./publisher.ts');

const NOW = Date.UTC(2096, 0, 1);
let exchange: {
  onChange: () => void;
  changed: { id: number }[];
  given: number[];
  watched: Set<number>;
  touched: number[];
};
let journal: { onChange: () => void; entries: string[]; given: string[] };
let publisher: InstanceType<typeof Publisher>;

beforeEach(() => {
  vi.useFakeTimers({ now: NOW });
  vi.spyOn(process.stdout, 'write').mockReturnValue(true);
  Object.assign(written, { calls: [], fails: false, hold: null });
  exchange = { onChange: () => {}, changed: [], given: [], watched: new Set(), touched: [] };
  journal = { onChange: () => {}, entries: [], given: [] };
  publisher = new Publisher({
    ...{ database: {} as never, run: 'run', engine: 'engine-1' },
    exchange: Object.assign(exchange, {
      takeChanged: () => {
        const points = exchange.changed.splice(0);
        return { points, readings: points };
      },
      giveBack: (points: { id: number }[]) => {
        exchange.given.push(...points.map(({ id }) => id));
        exchange.changed.unshift(...points);
      },
      touch: (id: number) => exchange.touched.push(id),
    }) as never,
    journal: Object.assign(journal, {
      take: () => journal.entries.splice(0),
      giveBack: (entries: string[]) => {
        journal.given.push(...entries);
        journal.entries.unshift(...entries);
      },
    }) as never,
    hops: () => [{ kind: 'engine', code: 'engine-1', essence: null, state: () => ({ startedAt: 0 }) as never }],
    trailOf: ({ id }) => ({ pointId: id }) as never,
  });
});
afterEach(() => {
  publisher.stop();
  vi.useRealTimers();
  vi.restoreAllMocks();
});
const pass = (ms: number): Promise<unknown> => vi.advanceTimersByTimeAsync(ms);
const change = (...ids: number[]): void => {
  exchange.changed.push(...ids.map((id) => ({ id })));
  exchange.onChange();
};
const count = (name: string): number => written.calls.filter((call) => call.startsWith(name)).length;

describe('what people see', () => {
  test('is written in one order and announced last', async () => {
    change(1, 2);
    journal.entries.push('line');
    await pass(0);
    expect(written.calls).toEqual([
      'latest 2 run',
      `hops engine-1 1 ${NOW} run`,
      `trails 0 ${NOW}`,
      'journal 1',
      'notify halvix_live',
    ]);
  });

  test('goes out at most four times a second, whatever changes', async () => {
    await pass(1000);
    written.calls = [];
    for (let n = 0; n < 100; n++) {
      change(n);
      await pass(10);
    }
    expect(count('notify')).toBeGreaterThanOrEqual(3);
    expect(count('notify')).toBeLessThanOrEqual(5);
  });

  test('waits a quarter of a second since the last time, no longer', async () => {
    change(1);
    await pass(0);
    change(2);
    await pass(249);
    expect(count('notify')).toBe(1);
    await pass(1);
    expect(count('notify')).toBe(2);
  });

  test('says nothing when nothing has changed', async () => {
    await pass(5000);
    expect(written.calls).toEqual([]);
  });

  test('a line of the journal, or a hop, is reason enough', async () => {
    journal.entries.push('line');
    journal.onChange();
    await pass(300);
    expect(count('notify')).toBe(1);
    publisher.heartbeat();
    await pass(300);
    expect(count('notify')).toBe(2);
  });

  test('is given back while the database is away, and written once it is there, after a pause', async () => {
    written.fails = true;
    change(1);
    journal.entries.push('line');
    await pass(0);
    expect([exchange.given, journal.given, written.calls]).toEqual([[1], ['line'], []]);
    written.fails = false;
    await pass(1249);
    expect(written.calls).toEqual([]);
    await pass(1);
    expect(written.calls.slice(0, 1)).toEqual(['latest 1 run']);
    expect(count('journal 1')).toBe(1);
  });

  test('that changes while it is written goes out after that, and only what changed', async () => {
    let goOn = (): void => {};
    written.hold = new Promise((resolve) => (goOn = resolve));
    journal.entries.push('line');
    journal.onChange();
    await pass(0);
    change(1);
    await pass(600);
    expect(count('latest')).toBe(0);
    written.hold = null;
    goOn();
    await pass(0);
    await pass(250);
    expect(written.calls.filter((call) => call.startsWith('latest'))).toEqual(['latest 0 run', 'latest 1 run']);
    await pass(2000);
    expect(count('notify')).toBe(2);
  });

  test('is written no more once it has stopped', async () => {
    publisher.stop();
    change(1);
    await pass(2000);
    expect(written.calls).toEqual([]);
  });
});

describe('what somebody looks at', () => {
  test('has its trail written, for half a minute', async () => {
    publisher.watch(7);
    expect([exchange.touched, exchange.watched.has(7)]).toEqual([[7], true]);
    change(7, 8);
    await pass(0);
    expect(written.calls).toContainEqual(`trails 1 ${NOW}`);
    await pass(30_001);
    written.calls = [];
    change(7);
    await pass(300);
    expect(written.calls.some((call) => call.startsWith('trails 0'))).toBe(true);
    expect(exchange.watched.has(7)).toBe(false);
  });

  test('is known for as long, of links and devices each', async () => {
    publisher.watchLink('L');
    publisher.watchDevice('D');
    expect([publisher.isWatchedLink('L'), publisher.isWatchedDevice('D')]).toEqual([true, true]);
    expect([publisher.isWatchedLink('D'), publisher.isWatchedDevice('L')]).toEqual([false, false]);
    await pass(29_000);
    publisher.watchLink('L');
    await pass(2000);
    expect([publisher.isWatchedLink('L'), publisher.isWatchedDevice('D')]).toEqual([true, false]);
  });

  test('has a bound: beyond 200 nobody is added, and who is there already may go on', () => {
    for (let id = 0; id < 250; id++) publisher.watch(id);
    for (let n = 0; n < 250; n++) publisher.watchLink(`L${n}`);
    expect([exchange.watched.size, publisher.isWatchedLink('L199'), publisher.isWatchedLink('L200')]).toEqual([
      200,
      true,
      false,
    ]);
    exchange.touched = [];
    publisher.watch(5);
    expect(exchange.touched).toEqual([5]);
  });
});
