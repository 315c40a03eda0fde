import { expect, test } from 'vitest';
import { InTurn } from './inturn.ts';

const deferred = (): { promise: Promise<void>; resolve: () => void } => {
  let resolve = (): void => {};
  const promise = new Promise<void>((done) => (resolve = done));
  return { promise, resolve };
};
const settled = (): Promise<void> => new Promise((resolve) => setTimeout(resolve, 0));

test('what has one name is done in the order of its places, whenever its work is known', async () => {
  const turns = new InTurn();
  const [first, second, other] = [turns.place('A'), turns.place('A'), turns.place('B')];
  const done: string[] = [];
  const wait = deferred();
  const late = second(async () => void done.push('second'));
  const elsewhere = other(async () => void done.push('other'));
  await settled();
  expect(done).toEqual(['other']);
  const early = first(async () => {
    await wait.promise;
    done.push('first');
  });
  await settled();
  expect(done).toEqual(['other']);
  wait.resolve();
  await Promise.all([early, late, elsewhere]);
  expect(done).toEqual(['other', 'first', 'second']);
});

test('what fails makes way, and whoever asked for it is told', async () => {
  const turns = new InTurn();
  const first = turns.place('A')(() => Promise.reject(new Error('no')));
  const second = turns.place('A')(() => Promise.resolve(2));
  await expect(first).rejects.toThrow('no');
  expect(await second).toBe(2);
  expect(await turns.place('A')(() => Promise.resolve(3))).toBe(3);
});
