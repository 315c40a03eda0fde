import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { modbusAt, widthOf } from '../points.ts';
import { costOf, halved, planBlocks, planNumbers, withoutGaps, type Block, type ReadPoint } from './blocks.ts';

const LIMITS = { maxBits: 2000, maxRegisters: 125, bridgesGaps: true };
const register = (address: number, more: object = {}): ReadPoint => ({
  id: address,
  kind: 'analog',
  at: modbusAt('holdingRegisters', address, more),
});
const wide = { type: 'uint32' } as const;
const spans = (blocks: readonly Block[]): string[] => blocks.map(({ start, count }) => `${start}+${count}`);
const onLan = (points: ReadPoint[], change: object = {}): string[] =>
  spans(planBlocks(points, { ...LIMITS, ...change }, 'tcp', 0));

describe('read blocks', () => {
  test('as few as the limits allow, each no longer than it has to be', () => {
    expect(onLan([register(0), register(50), register(124), register(125)])).toEqual(['0+51', '124+2']);
    expect(onLan([register(0), register(2)], { maxRegisters: 2 })).toEqual(['0+1', '2+1']);
    expect(onLan(Array.from({ length: 10_000 }, (_, at) => register(at)))).toHaveLength(80);
  });

  test('a value of several registers is never cut', () => {
    expect(onLan([register(0), register(124, wide)])).toEqual(['0+1', '124+2']);
  });

  test('a named block is read whole', () => {
    const block = { block: 'energy' };
    expect(onLan([register(0), register(10, block), register(30, block)], { maxRegisters: 25 })).toEqual([
      '0+1',
      '10+21',
    ]);
  });

  test('tables and groups are read apart', () => {
    const coil: ReadPoint = { id: 1, kind: 'output', at: modbusAt('coils', 0) };
    expect(onLan([coil, register(0), register(1, { group: 2 })])).toEqual(['0+1', '0+1', '1+1']);
  });

  test('no gap is read where the device refuses it', () => {
    expect(onLan([register(0), register(1), register(3)], { bridgesGaps: false })).toEqual(['0+2', '3+1']);
  });

  test('on a line a gap is read along when that is cheaper than another request', () => {
    const octetMs = 1.146;
    const { request, unit } = costOf('holdingRegisters', 'rtu', octetMs);
    const cheapest = Math.floor(request / unit);
    const planned = (gap: number): string[] =>
      spans(planBlocks([register(0), register(gap + 1)], LIMITS, 'rtu', octetMs));
    expect(planned(cheapest)).toHaveLength(1);
    expect(planned(cheapest + 1)).toHaveLength(2);
  });

  test('what a round takes', () => {
    // Request of 8 octets, answer of 5 and the data.
    expect(planNumbers(planBlocks([register(0), register(40)], LIMITS, 'rtu', 1), 'rtu', 1)).toEqual({
      requests: 2,
      octets: 2 * (8 + 5 + 2),
      lineMs: 2 * (8 + 5 + 2),
    });
  });

  test('a refused block is asked for without its gaps, then by halves', () => {
    const [block] = planBlocks([register(0), register(1), register(5)], LIMITS, 'tcp', 0);
    expect(spans(withoutGaps(block) ?? [])).toEqual(['0+2', '5+1']);
    expect(spans(halved(block) ?? [])).toEqual(['0+2', '5+1']);
    const [single] = planBlocks([register(7)], LIMITS, 'tcp', 0);
    expect([halved(single), withoutGaps(single)]).toEqual([null, null]);
  });

  test('no plan of any kind does with fewer requests', () => {
    const points = fc.uniqueArray(fc.tuple(fc.integer({ min: 0, max: 14 }), fc.boolean()), {
      maxLength: 7,
      selector: ([at]) => at,
    });
    fc.assert(
      fc.property(points, fc.integer({ min: 2, max: 6 }), (given, most) => {
        const list = given.map(([at, isWide]) => register(at, isWide ? wide : {}));
        const blocks = planBlocks(list, { ...LIMITS, maxRegisters: most }, 'tcp', 0);
        const covered = blocks.flatMap((block) => block.points.map(({ id }) => id)).sort((a, b) => a - b);
        expect(covered).toEqual(list.map(({ id }) => id).sort((a, b) => a - b));
        expect(blocks.every(({ count }) => count <= most)).toBe(true);
        expect(blocks.length).toBe(fewest(list, most));
      }),
      { numRuns: 500 },
    );
  });
});

/** By trying all: which windows of that many registers hold every value whole. */
function fewest(points: readonly ReadPoint[], most: number): number {
  if (points.length === 0) return 0;
  const all = (1 << points.length) - 1;
  const windows = Array.from({ length: 16 }, (_, start) =>
    points.reduce(
      (bits, { at }, n) => (at.address >= start && at.address + widthOf(at) <= start + most ? bits | (1 << n) : bits),
      0,
    ),
  );
  let reached = new Set([0]);
  for (let count = 1; ; count++) {
    reached = new Set([...reached].flatMap((bits) => windows.map((window) => bits | window)));
    if (reached.has(all)) return count;
  }
}
