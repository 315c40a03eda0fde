import { expect, test } from 'vitest';
import { Inflow } from './inflow.ts';

const turn = (): Promise<void> => new Promise((resolve) => setImmediate(resolve));
function busy(ms: number): void {
  for (const until = performance.now() + ms; performance.now() < until;);
}
const sum = (pieces: readonly Uint8Array[]): number => pieces.reduce((all, { length }) => all + length, 0);

test('what comes by itself is handed on at once, as it came', () => {
  const got: Uint8Array[] = [];
  const held: boolean[] = [];
  const inflow = new Inflow({ deliver: (octets) => got.push(octets), hold: (on) => held.push(on) });
  inflow.push(Uint8Array.of(1, 2, 3));
  inflow.push(Uint8Array.of(4));
  expect(got.map((octets) => [...octets])).toEqual([[1, 2, 3], [4]]);
  expect(held).toEqual([]);
});

test('of one that sends without end a turn takes a few slices, it is held, and nothing of it is lost or moved', async () => {
  const got: Uint8Array[] = [];
  const held: boolean[] = [];
  const flood = new Inflow({
    deliver: (octets) => {
      got.push(octets);
      busy(1);
    },
    hold: (on) => held.push(on),
  });
  const all = Uint8Array.from({ length: 40_000 }, (_, n) => n % 251);
  flood.push(all);
  expect(held).toEqual([true]);
  expect(sum(got)).toBeLessThan(20_000);
  for (let turns = 0; turns < 200 && sum(got) < all.length; turns++) {
    const before = got.length;
    await turn();
    // Eight milliseconds of one each; a machine that stands still in one of them makes it fewer.
    expect(got.length - before).toBeLessThanOrEqual(9);
  }
  expect(Buffer.concat(got).equals(Buffer.from(all))).toBe(true);
  expect(got.every(({ length }) => length >= 256 || length === got.at(-1)?.length)).toBe(true);
  expect(held).toEqual([true, false]);
});

test('whoever says little comes before those who say much, however many they are', async () => {
  let slices = 0;
  const floods = Array.from(
    { length: 20 },
    () =>
      new Inflow({
        deliver: () => {
          slices++;
          busy(1);
        },
        hold: () => {},
      }),
  );
  for (const flood of floods) flood.push(new Uint8Array(60_000));
  for (let turns = 0; turns < 10; turns++) await turn();
  let heard = -1;
  const quiet = new Inflow({ deliver: () => (heard = slices) });
  const before = slices;
  quiet.push(Uint8Array.of(1));
  for (let turns = 0; turns < 5 && heard < 0; turns++) await turn();
  expect(heard - before).toBeGreaterThanOrEqual(0);
  expect(heard - before).toBeLessThanOrEqual(20);
  floods.forEach((flood) => flood.discard());
});

test('the end comes after what came before it; what we end ourselves is not handed on any more', async () => {
  const events: string[] = [];
  const slow = (name: string): Inflow =>
    new Inflow({
      deliver: ({ length }) => {
        events.push(`${name} ${length}`);
        busy(10);
      },
    });
  const [theirs, ours] = [slow('theirs'), slow('ours')];
  theirs.push(new Uint8Array(2000));
  theirs.finish(() => events.push('theirs ended'));
  theirs.push(new Uint8Array(5));
  ours.push(new Uint8Array(3000));
  ours.discard();
  ours.push(new Uint8Array(7));
  ours.finish(() => events.push('ours ended'));
  expect(events).toContain('ours ended');
  expect(events).not.toContain('theirs ended');
  for (let turns = 0; turns < 20 && events.at(-1) !== 'theirs ended'; turns++) await turn();
  expect(events.at(-1)).toBe('theirs ended');
  const octets = events.flatMap((event) => /^theirs (\d+)$/.exec(event)?.[1] ?? []).map(Number);
  expect(octets.reduce((all, one) => all + one, 0)).toBe(2000);
  expect(events.filter((event) => event.endsWith('ended'))).toEqual(['ours ended', 'theirs ended']);
  expect(events.some((event) => event === 'ours 7')).toBe(false);
});

test('whoever does not take what it is sent is not listened to until it does', async () => {
  let takes = false;
  const got: number[] = [];
  const held: boolean[] = [];
  const inflow = new Inflow({
    ...{ deliver: ({ length }) => got.push(length), hold: (on) => held.push(on), takes: () => takes },
  });
  inflow.push(new Uint8Array(10));
  for (let turns = 0; turns < 5; turns++) await turn();
  expect([got, held]).toEqual([[], [true]]);
  takes = true;
  inflow.drained();
  await turn();
  await turn();
  expect([got, held]).toEqual([[10], [true, false]]);
});

test('messages stay whole; of what cannot be held there is an end', async () => {
  const got: number[] = [];
  let isBusy = true;
  const inflow = new Inflow({
    whole: true,
    deliver: ({ length }) => {
      got.push(length);
      if (isBusy) busy(10);
      isBusy = false;
    },
  });
  for (let n = 0; n < 40; n++) inflow.push(new Uint8Array(60_000));
  for (let turns = 0; turns < 10; turns++) await turn();
  expect(new Set(got)).toEqual(new Set([60_000]));
  expect(got.length).toBeGreaterThan(10);
  expect(got.length).toBeLessThan(25);
});
