import type { Engine } from '@halvix/db';
import { afterEach, beforeEach, expect, test, vi } from 'vitest';

const lease = vi.hoisted(() => ({ holder: '', calls: [] as string[], fails: false, isKept: true }));
vi.mock('@halvix/db', () => {
  const call = (what: string): void => {
    if (lease.fails) throw new Error('away');
    lease.calls.push(what);
  };
  return {
    takeLease: async (_database: unknown, engine: Engine, ms: number) => {
      call(`take ${ms}`);
      lease.holder ||= engine.run;
      return { ...engine, run: lease.holder, name: lease.holder };
    },
    renewLease: async (_database: unknown, run: string, ms: number) => {
      call(`renew ${run} ${ms}`);
      return lease.isKept;
    },
    noteStandby: async (_database: unknown, { run }: Engine) => call(`stand by ${run}`),
    dropStandby: async (_database: unknown, run: string) => call(`no standby ${run}`),
    releaseLease: async (_database: unknown, run: string) => call(`release ${run}`),
  };
});
const { Authority } = await import('./authority.ts');

let authority: InstanceType<typeof Authority>;
let lost: number;
beforeEach(() => {
  vi.useFakeTimers({ now: Date.UTC(2096, 0, 1) });
  vi.spyOn(process.stdout, 'write').mockReturnValue(true);
  Object.assign(lease, { holder: '', calls: [], fails: false, isKept: true });
  lost = 0;
  authority = new Authority({} as never, { run: 'ours', name: 'engine-1' } as Engine, 9000, () => lost++);
});
afterEach(async () => {
  await authority.release();
  vi.useRealTimers();
  vi.restoreAllMocks();
});
const pass = (ms: number): Promise<unknown> => vi.advanceTimersByTimeAsync(ms);

test('a lease that nobody holds is taken at once, and renewed each third of its time', async () => {
  await authority.acquire();
  expect([authority.isHolder, authority.holder?.run, authority.problem]).toEqual([true, 'ours', null]);
  expect(authority.answered).toBe(Date.now());
  await pass(2999);
  expect(lease.calls).toEqual(['take 9000', 'no standby ours']);
  await pass(1);
  expect(lease.calls.at(-1)).toBe('renew ours 9000');
});

test('while another engine holds it, this one stands by and asks each third of its time', async () => {
  lease.holder = 'theirs';
  const acquired = authority.acquire();
  await pass(6000);
  expect(authority.isHolder).toBe(false);
  expect(lease.calls).toEqual([
    'take 9000',
    'stand by ours',
    'take 9000',
    'stand by ours',
    'take 9000',
    'stand by ours',
  ]);
  lease.holder = '';
  await pass(3000);
  await acquired;
  expect(authority.isHolder).toBe(true);
});

test('while the database is away a holder goes on, and says why nothing is answered', async () => {
  await authority.acquire();
  lease.fails = true;
  const before = authority.answered;
  await pass(60_000);
  expect([authority.isHolder, authority.problem, authority.answered, lost]).toEqual([true, 'away', before, 0]);
  lease.fails = false;
  await pass(3000);
  expect(authority.problem).toBeNull();
});

test('one that stands by waits for a database that is away', async () => {
  lease.fails = true;
  const acquired = authority.acquire();
  await pass(3000);
  expect([authority.isHolder, authority.problem]).toEqual([false, 'away']);
  lease.fails = false;
  await pass(3000);
  await acquired;
  expect(authority.isHolder).toBe(true);
});

test('a lease that went to another engine is lost once', async () => {
  await authority.acquire();
  lease.isKept = false;
  await pass(9000);
  expect([lost, authority.isHolder]).toEqual([1, false]);
});

test('an orderly end gives it back; one that stood by says that it is gone', async () => {
  await authority.acquire();
  await authority.release();
  expect([lease.calls.at(-1), authority.isHolder]).toEqual(['release ours', false]);
  lease.calls = [];
  await pass(60_000);
  expect(lease.calls).toEqual([]);
  await authority.release();
  expect(lease.calls).toEqual(['no standby ours']);
});
