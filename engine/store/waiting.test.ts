import { expect, test } from 'vitest';
import { WaitingEntries } from './waiting.ts';

interface Entry {
  device: string;
  name: string;
  readings: number[];
  keep: Uint8Array | null;
  mayDrop: boolean;
  owed: [];
}
const look = (device: string, name: string, readings = 1): Entry => {
  return { device, name, readings: new Array<number>(readings).fill(0), keep: null, mayDrop: true, owed: [] };
};
const fragment = (device: string, name: string, readings = 1): Entry => ({
  ...look(device, name, readings),
  keep: new Uint8Array(),
  mayDrop: false,
});
const nobody = (): boolean => false;
const names = (entries: Entry[]): string[] => entries.map(({ name }) => name);
const waitingOf = (maxBatch: number, maxLooks: number, entries: Entry[]): WaitingEntries<Entry> => {
  const waiting = new WaitingEntries<Entry>(maxBatch, maxLooks);
  for (const entry of entries) waiting.add(entry);
  return waiting;
};

test('devices take turns in a batch, and each device’s entries keep their order', () => {
  const waiting = waitingOf(100, 1e6, [look('A', 'a1'), look('A', 'a2'), look('A', 'a3'), look('B', 'b1')]);
  expect(names(waiting.take(nobody))).toEqual(['a1', 'b1', 'a2', 'a3']);
  expect(waiting.readings).toBe(0);
  expect(waiting.take(nobody)).toEqual([]);
});

test('one with much to store is in nobody’s way', () => {
  const much = Array.from({ length: 50 }, (_, i) => look('A', `a${i}`, 10));
  const waiting = waitingOf(30, 1e6, [...much, fragment('B', 'b1'), look('C', 'c1')]);
  expect(names(waiting.take(nobody))).toEqual(['a0', 'b1', 'c1', 'a1']);
  waiting.add(fragment('B', 'b2'));
  expect(names(waiting.take(nobody))).toContain('b2');
});

test('an entry larger than a batch is one', () => {
  const waiting = waitingOf(10, 1e6, [look('A', 'a1', 500), look('B', 'b1')]);
  expect(names(waiting.take(nobody))).toEqual(['a1']);
  expect(names(waiting.take(nobody))).toEqual(['b1']);
});

test('a fragment waits for the one before it, a look does not', () => {
  const waiting = waitingOf(100, 1e6, [fragment('A', 'a1'), look('B', 'b1')]);
  expect(names(waiting.take((device) => device === 'A' || device === 'B'))).toEqual(['b1']);
  expect(names(waiting.take(nobody))).toEqual(['a1']);
});

test('beyond the bound a device drops its own looks, not those of others, and never an event', () => {
  const waiting = waitingOf(100, 20, [look('A', 'a1', 30), look('B', 'b1')]);
  expect(waiting.add(look('A', 'a2'))).toBe(false);
  expect(waiting.add(look('B', 'b2'))).toBe(true);
  expect(waiting.add(fragment('A', 'a3'))).toBe(true);
  expect(waiting.readings).toBe(33);
});
