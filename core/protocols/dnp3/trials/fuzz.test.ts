import { fuzz } from './fuzz.ts';
import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { concat } from '../../../bytes/index.ts';
import { Loop } from './loop.ts';
import { DEFAULT_VARIATIONS } from '../server/pointtable.ts';

const LIST = (['binary', 'analog', 'counter', 'output'] as const).map((kind) => ({
  kind,
  index: 0,
  class: kind === 'output' ? (0 as const) : (1 as const),
  staticVariation: DEFAULT_VARIATIONS[kind].static,
  eventVariation: DEFAULT_VARIATIONS[kind].event,
  deadband: 0,
}));

describe('hostile octets', () => {
  test('changed, cut, doubled and invented octets on a live wire: no exception, no hang, and the session recovers', () => {
    const mischief = fc.record({
      at: fc.nat(400),
      flip: fc.integer({ min: 0, max: 255 }),
      action: fc.constantFrom('flip', 'cut', 'double', 'invent', 'drop', 'none' as const),
      invented: fc.uint8Array({ maxLength: 60 }),
    });
    fc.assert(
      fc.property(fc.array(mischief, { minLength: 1, maxLength: 40 }), (plan) => {
        const loop = new Loop(LIST, { silentPeriodMs: 2000 });
        let next = 0;
        loop.wire = (octets) => {
          const m = plan[next++];
          if (m === undefined) return octets;
          const changed = octets.slice();
          if (m.action === 'flip') changed[m.at % changed.length] ^= m.flip;
          if (m.action === 'cut') return changed.subarray(0, m.at % changed.length);
          if (m.action === 'double') return concat([changed, changed]);
          if (m.action === 'invent') return concat([m.invented, changed]);
          return m.action === 'drop' ? null : changed;
        };
        loop.connect();
        for (let i = 1; i <= 20; i++) {
          loop.toOutstation({
            type: 'update',
            updates: [{ kind: 'analog', index: 0, value: i, flags: 1, time: loop.now }],
          });
          loop.pass(1000);
        }
        loop.wire = (octets) => octets;
        loop.pass(30_000);
        const values = loop.masterEffects.flatMap((e) =>
          e.type === 'readings' ? e.readings.filter((r) => r.kind === 'analog').map((r) => r.value) : [],
        );
        expect(values.at(-1)).toBe(20);
        const seen = new Set(values);
        for (let i = 1; i <= 20; i++) expect(seen).toContain(i);
      }),
      { numRuns: 300 },
    );
  });
});

// How long each takes is watched by `npm run fuzz`.
test('thirty thousand hostile streams do no harm', () => {
  const report = fuzz(30_000, 1815, () => 0);
  expect(report.problems).toEqual([]);
  expect(report.streams).toBe(30_000);
  expect(report.framesTaken).toBeGreaterThan(5000);
});
