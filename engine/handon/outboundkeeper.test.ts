import type { KeptPiece } from '@halvix/db';
import { afterEach, beforeEach, expect, test, vi } from 'vitest';

const base = vi.hoisted(() => ({
  writes: [] as { pieces: KeptPiece[]; run: string }[],
  fails: false,
}));
vi.mock('@halvix/db', () => ({
  addKept: async (_database: unknown, pieces: KeptPiece[], run: string) => {
    if (base.fails) throw new Error('away');
    base.writes.push({ pieces, run });
  },
  keptPieces: async (_database: unknown, outbound: number) =>
    base.writes.flatMap(({ pieces }) => pieces.filter((one) => one.outbound === outbound).map(({ octets }) => octets)),
}));
const { OutboundKeeper } = await import('./outboundkeeper.ts');

let keeper: InstanceType<typeof OutboundKeeper>;
beforeEach(() => {
  vi.useFakeTimers({ now: Date.UTC(2096, 0, 1) });
  vi.spyOn(process.stdout, 'write').mockReturnValue(true);
  Object.assign(base, { writes: [], fails: false });
  keeper = new OutboundKeeper({} as never, 'run 1');
});
afterEach(() => {
  vi.useRealTimers();
  vi.restoreAllMocks();
});
const ALL = Uint8Array.of(255);
const add = (outbound: number, octets: Uint8Array | number[], replaces = false): void =>
  keeper.add(outbound, Uint8Array.from(octets), () => ALL, replaces);
const pass = (ms: number): Promise<unknown> => vi.advanceTimersByTimeAsync(ms);
const written = () =>
  base.writes.map(({ pieces }) => pieces.map(({ outbound, octets, replaces }) => [outbound, [...octets], replaces]));

test('what comes within a tenth of a second is one piece of each, written for our run', async () => {
  add(1, [1]);
  add(2, [9]);
  add(1, [2, 3]);
  await pass(99);
  expect(written()).toEqual([]);
  await pass(1);
  expect(base.writes[0].run).toBe('run 1');
  expect(written()).toEqual([
    [
      [1, [1, 2, 3], false],
      [2, [9], false],
    ],
  ]);
  await pass(10_000);
  expect(written()).toHaveLength(1);
});

test('who says everything anew replaces what was there', async () => {
  add(1, [1]);
  add(1, [2], true);
  await pass(100);
  add(1, [3]);
  await pass(100);
  expect(written()).toEqual([[[1, [255], true]], [[1, [3], false]]]);
});

test('many pieces are replaced by one', async () => {
  for (let n = 0; n < 2002; n++) {
    add(1, [7]);
    await keeper.flush();
  }
  expect(base.writes.flatMap(({ pieces }, at) => (pieces[0].replaces ? at : []))).toEqual([2000]);
});

test('while the database is away everything waits, in its order', async () => {
  base.fails = true;
  add(1, [1]);
  await pass(100);
  add(1, [2]);
  base.fails = false;
  await pass(999);
  expect(written()).toEqual([]);
  await pass(1);
  expect(written()).toEqual([[[1, [1, 2], false]]]);
});

test('a replacement that failed is still one', async () => {
  base.fails = true;
  add(1, [1], true);
  await pass(100);
  base.fails = false;
  await pass(1000);
  expect(written()).toEqual([[[1, [255], true]]]);
});

test('too much to wait for is left, and everything is written anew', async () => {
  base.fails = true;
  add(1, new Uint8Array(20 << 20));
  await pass(100);
  add(1, new Uint8Array(12 << 20));
  expect(written()).toEqual([]);
  add(1, [1]);
  base.fails = false;
  await pass(1000);
  expect(written()).toEqual([[[1, [255], true]]]);
});

test('is read after what waits was written', async () => {
  add(1, [1]);
  expect((await keeper.load(1)).map((octets) => [...octets])).toEqual([[1]]);
});

test('of outbounds that are gone nothing is written any more', async () => {
  add(1, [1]);
  add(2, [2]);
  keeper.forgetAllBut([2]);
  await pass(100);
  expect(written()).toEqual([[[2, [2], false]]]);
});
