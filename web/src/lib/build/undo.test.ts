import { expect, test } from 'vitest';
import { keepSteps, keptSteps, type Step } from './undo.ts';

function shelf(room = Infinity) {
  const kept = new Map<string, string>();
  return {
    getItem: (key: string) => kept.get(key) ?? null,
    setItem: (key: string, text: string) => {
      if (text.length > room) throw new Error('no room');
      kept.set(key, text);
    },
    removeItem: (key: string) => void kept.delete(key),
  };
}
const step = (label: string, ids: number[], text = ''): Step => ({
  label,
  objects: ids.map((id) => ({ id, kind: 'station', parent: '', before: null, after: { text } })),
});

test('steps come back to the same person, with the versions of their objects', () => {
  const on = shelf();
  const steps = { done: [step('a', [1]), step('b', [2])], undone: [step('c', [3])] };
  keepSteps(on, 'ada', {
    ...steps,
    own: new Map([
      [1, 7],
      [3, 9],
      [99, 1],
    ]),
  });
  expect(keptSteps(on, 'ada')).toEqual({
    ...steps,
    own: new Map([
      [1, 7],
      [3, 9],
    ]),
  });
  expect(keptSteps(on, 'eve')).toBeNull();
});

test('what is too large is left out, with everything before it', () => {
  const on = shelf();
  const large = step('all points', [...Array(2001).keys()]);
  const long = step('a long text', [5], 'x'.repeat(1_000_000));
  const kept = (done: Step[]): string[] => {
    keepSteps(on, 'ada', { done, undone: [], own: new Map() });
    return (keptSteps(on, 'ada')?.done ?? []).map(({ label }) => label);
  };
  expect(kept([step('a', [1]), large, step('b', [2]), step('c', [3])])).toEqual(['b', 'c']);
  expect(kept([step('a', [1]), long, step('b', [2])])).toEqual(['b']);
});

test('without room, or with something else in its place, there is nothing to undo', () => {
  const on = shelf(10);
  keepSteps(on, 'ada', { done: [step('a', [1])], undone: [], own: new Map() });
  expect(keptSteps(on, 'ada')).toBeNull();
  on.setItem('halvix undo', '{"a');
  expect(keptSteps(on, 'ada')).toBeNull();
});

test('what an earlier version kept comes back as today has it', () => {
  const on = shelf();
  const before = { kind: 'analog', index: 7, name: 'Current' };
  const object = { id: 1, kind: 'point' as const, parent: 'D1', before, after: null };
  keepSteps(on, 'ada', { done: [{ label: 'delete 1', objects: [object] }], undone: [], own: new Map() });
  expect(keptSteps(on, 'ada')?.done[0].objects[0]).toMatchObject({
    before: { kind: 'analog', at: { protocol: 'dnp3', index: 7 }, name: 'Current' },
    after: null,
  });
});
