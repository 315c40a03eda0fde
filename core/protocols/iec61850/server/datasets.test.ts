import { expect, test } from 'vitest';
import type { ObjectName } from '../../mms/wire/names.ts';
import { DataSets, shownSet } from './datasets.ts';

const member = (item: string): { name: ObjectName } => ({ name: { scope: 'domain', domain: 'BAY', item } });
const IND = member('GGIO1$ST$Ind1');
const own = (item: string): ObjectName => ({ scope: 'association', item });
const OBJECT = { device: 'BAY', node: 'GGIO1', fc: 'ST', path: ['Ind1'] } as const;

test('two associations may call theirs alike; each goes with its own', () => {
  const sets = new DataSets(() => true);
  for (const peer of [1, 2]) {
    sets.came(peer);
    expect(sets.define(own('mine'), [IND], peer, false)).toBeNull();
  }
  const keys = [1, 2].map((peer) => sets.keyOfOwn(peer, 'mine') ?? '');
  expect([new Set(keys).size, keys.map(shownSet), sets.keyOfOwn(1, 'other')]).toEqual([2, ['@mine', '@mine'], null]);
  expect(sets.within(OBJECT).map(({ set }) => set)).toEqual(keys);
  expect([sets.members(keys[0])?.length, sets.ofDevice('BAY'), sets.ofAssociation(1)]).toEqual([1, [], ['mine']]);
  sets.went(1);
  expect([sets.members(keys[0]), sets.within(OBJECT).map(({ set }) => set)]).toEqual([null, [keys[1]]]);
  expect(sets.delete(own('mine'), 2, () => true)).toBe(false);
  expect([sets.delete(own('mine'), 2, () => false), sets.within(OBJECT)]).toEqual([true, []]);
});

// Classes and codes of errors as ISO 9506-2 has them; the table that Wireshark's dissector has says the same.
test('what cannot be made is refused by its class', () => {
  const sets = new DataSets(({ path }) => path[0] !== 'None');
  sets.came(1);
  const define = (name: ObjectName, ...items: { name: ObjectName }[]): unknown => {
    const error = sets.define(name, items, 1, true);
    return error && [error.class, error.code];
  };
  const inDevice: ObjectName = { scope: 'domain', domain: 'BAY', item: 'LLN0$made' };
  expect(define(inDevice, IND)).toBeNull();
  // Definition: it exists already. Service: a constraint of the object. Access: there is no such object.
  expect(define(inDevice, IND)).toEqual([2, 5]);
  expect(define(own('empty'))).toEqual([4, 5]);
  expect(define(own('wrong'), member('GGIO1$ST$None'))).toEqual([7, 2]);
});
