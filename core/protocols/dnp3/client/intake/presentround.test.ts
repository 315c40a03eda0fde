import { beforeEach, expect, test } from 'vitest';
import { PresentRound } from './presentround.ts';

let told: (readonly number[])[];
let round: PresentRound;
const listed = (...ids: number[]) => ids.map((id) => ({ id, kind: 'analog' as const, index: id }));
const saw = (...ids: (number | null)[]): void => round.saw(ids.map((id) => ({ id })));
beforeEach(() => {
  told = [];
  round = new PresentRound(listed(1, 2, 3), (points) => told.push(points));
});

test('what a round without trouble does not bring is nothing to tell', () => {
  saw(1);
  round.ends(false);
  expect(told).toEqual([]);
});

test('where a part of it is lost the points that nobody reads are told, once, and taken back', () => {
  for (let n = 0; n < 2; n++) {
    saw(1, null);
    round.lost();
    round.ends(false);
  }
  expect(told).toEqual([[2, 3]]);
  // As an event one is known too.
  saw(1, 3);
  round.ends(true);
  expect(told.at(-1)).toEqual([2]);
  saw(1, 2, 3);
  round.ends(true);
  expect(told.at(-1)).toEqual([]);
  round.setPoints(listed(1, 4));
  saw(1);
  round.ends(true);
  expect(told.at(-1)).toEqual([4]);
  round.ends(false);
  expect(told.at(-1)).toEqual([]);
});
