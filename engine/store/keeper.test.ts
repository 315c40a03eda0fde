import { afterEach, beforeEach, expect, test, vi } from 'vitest';

const done = vi.hoisted(() => ({
  steps: [] as string[],
  fails: '',
  hours: [] as number[],
  hold: null as null | Promise<void>,
}));
vi.mock('@halvix/db', () => {
  const step =
    (name: string, result: (...rest: unknown[]) => unknown = () => []) =>
    async (_database: unknown, ...rest: unknown[]): Promise<unknown> => {
      if (done.fails === name) throw new Error('not now');
      done.steps.push([name, ...rest.map(String)].join(' '));
      await done.hold;
      return result(...rest);
    };
  return {
    makePartitions: step('partitions', () => ['2096-01-05: locked']),
    bringHome: step('home'),
    closeHours: step('close'),
    compact: step('compact', () => done.hours.shift() ?? 0),
    endOldHistory: step('end'),
    tidy: step('tidy'),
    dropOldJournal: step('journal'),
    retentions: async () => [{ readingsDays: 30 }, { readingsDays: 90 }],
  };
});
const { HistoryKeeper } = await import('./keeper.ts');

const NOW = Date.UTC(2096, 0, 1);
let keeper: InstanceType<typeof HistoryKeeper>;
let said: string[];
beforeEach(() => {
  vi.useFakeTimers({ now: NOW });
  said = [];
  vi.spyOn(process.stdout, 'write').mockImplementation((line) => said.push(String(line)) > 0);
  Object.assign(done, { steps: [], fails: '', hours: [], hold: null });
  keeper = new HistoryKeeper({} as never);
});
afterEach(() => {
  keeper.stop();
  vi.useRealTimers();
  vi.restoreAllMocks();
});
const pass = (ms: number): Promise<unknown> => vi.advanceTimersByTimeAsync(ms);
const names = (): string[] => done.steps.map((step) => step.split(' ')[0]);
const ROUND = ['partitions', 'home', 'close', 'compact', 'end', 'tidy', 'journal'];

test('a round goes through all of it, in its order, at once and every five minutes', async () => {
  keeper.start();
  await pass(0);
  expect(done.steps).toEqual([
    `partitions ${NOW} 8`,
    `home ${NOW} 8 90`,
    `close ${NOW}`,
    'compact 24',
    `end ${NOW}`,
    `tidy ${NOW}`,
    `journal ${NOW - 30 * 86_400_000}`,
  ]);
  await pass(299_999);
  expect(done.steps).toHaveLength(7);
  await pass(1);
  expect(names()).toEqual([...ROUND, ...ROUND]);
});

test('what cannot be done now is said, and the rest is done', async () => {
  done.fails = 'close';
  await keeper.work();
  expect(names()).toEqual(ROUND.filter((name) => name !== 'close'));
  expect(said.join()).toContain('history: cannot close hours now');
});

test('statistics are made a day at a time, as long as there is more', async () => {
  done.hours = [24, 24, 7];
  await keeper.work();
  expect(names().filter((name) => name === 'compact')).toHaveLength(3);
});

test('one round at a time', async () => {
  let go: () => void = () => {};
  done.hold = new Promise((resolve) => (go = resolve));
  const first = keeper.work();
  await keeper.work();
  expect(names()).toEqual(['partitions']);
  done.hold = null;
  go();
  await first;
  expect(names()).toEqual(ROUND);
});

test('an end leaves the rest of a round', async () => {
  let go: () => void = () => {};
  done.hold = new Promise((resolve) => (go = resolve));
  const round = keeper.work();
  keeper.stop();
  go();
  await round;
  expect(names()).toEqual(['partitions']);
});

test('days that are needed before anything is stored: one that cannot be made is said', async () => {
  await keeper.prepare();
  expect(done.steps).toEqual([`partitions ${NOW} 8`]);
  expect(said.join()).toContain('2096-01-05: locked');
});

// Last of all: the clock does not come back.
test('after a jump of the clock days are made at once; without one they wait', async () => {
  keeper.start();
  await pass(60_000);
  expect(names()).toEqual(ROUND);
  vi.setSystemTime(NOW + 86_400_000);
  await pass(30_000);
  expect(names()).toEqual([...ROUND, ...ROUND]);
});
