import { beforeEach, describe, expect, test } from 'vitest';
import { AccessError, type Data } from '../../mms/wire/data.ts';
import { controlData, type ApplicationError, type ControlModel } from '../control.ts';
import { partsOf } from '../model/types.ts';
import { typeIn } from '../model/model.ts';
import { structure } from '../model/types.ts';
import { Cause, Operated, type Wish } from './operated.ts';

const NOW = 1_700_000_000_000;
const CLIENT = 4;
let asked: { phase: string; wish: Wish; answer: (cause: number | null) => void }[];
let errors: ApplicationError[];
let shown: string[];
let object: Operated;

function begin(model: ControlModel): void {
  const { CO } = partsOf('SPC', model);
  const oper = typeIn(structure(['CO', CO!]), { fc: 'CO', path: ['Oper'] } as never);
  const cancel = typeIn(structure(['CO', CO!]), { fc: 'CO', path: ['Cancel'] } as never);
  [asked, errors, shown] = [[], [], []];
  object = new Operated('BAY/GGIO1$CO$SPCSO1', model, { oper: oper!, cancel: cancel! }, 5000, {
    ask: (_peer, phase, wish, answer) => void asked.push({ phase, wish, answer }),
    tellError: (_peer, error) => void errors.push(error),
    tellEnd: () => {},
    show: ({ origin, number }) => {
      shown.push(`${origin.category} ${number}`);
      return () => void shown.push('taken back');
    },
  });
}
function write(
  part: string,
  { category = 2, identity = [1, 2], number = 7, value = true } = {},
): number | null | undefined {
  const { CO } = partsOf('SPC', object.model);
  const of = typeIn(structure(['CO', CO!]), { fc: 'CO', path: ['Oper'] } as never)!;
  const data = controlData(of, {
    ...{ value: { type: 'boolean', value } as Data, origin: { category, identity: Uint8Array.from(identity) }, number },
    ...{ time: NOW, test: false, synchrocheck: false, interlock: false },
  });
  if (!data.ok) throw new Error(data.problem);
  let error: number | null | undefined;
  object.write(part, data.value, CLIENT, NOW, (one) => (error = one));
  return error;
}

describe('what was selected with its value is operated as it was selected', () => {
  beforeEach(() => {
    begin('selectBeforeOperateEnhanced');
    write('SBOw');
    asked.splice(0)[0].answer(null);
  });

  test('by the same origin, value and number', () => {
    expect(write('Oper')).toBeNull();
    expect(asked.map(({ phase }) => phase)).toEqual(['operate']);
  });

  test.each([
    ['another category', { category: 3 }],
    ['another identity', { identity: [1, 3] }],
    ['a shorter identity', { identity: [1] }],
    ['another number', { number: 8 }],
    ['another value', { value: false }],
  ])('with %s it is refused as inconsistent, and free again', (_what, more) => {
    expect(write('Oper', more)).toBe(AccessError.denied);
    expect(errors.map(({ cause }) => cause)).toEqual([Cause['inconsistent parameters']]);
    expect(asked).toEqual([]);
    expect(write('Oper')).toBe(AccessError.denied);
    expect(errors.at(-1)?.cause).toBe(Cause['object not selected']);
  });
});

describe('who operates', () => {
  test.each([
    ['a category that there is not', { category: 9 }],
    ['a category below all', { category: -1 }],
    ['an identity of 65 octets', { identity: new Array<number>(65).fill(1) }],
  ])('%s is refused', (_what, more) => {
    begin('direct');
    expect(write('Oper', more)).toBe(AccessError.denied);
    expect(errors.map(({ cause }) => cause)).toEqual([26]);
    expect(asked).toEqual([]);
  });

  test('the last category and 64 octets are taken', () => {
    begin('direct');
    write('Oper', { category: 8, identity: new Array<number>(64).fill(1) });
    expect(asked).toHaveLength(1);
  });

  test('stands at the object, and is taken back when it is not done', () => {
    begin('direct');
    write('Oper');
    asked.splice(0)[0].answer(null);
    expect(shown).toEqual(['2 7']);
    write('Oper', { number: 8 });
    asked.splice(0)[0].answer(Cause['blocked by process']);
    expect(shown).toEqual(['2 7', '2 8', 'taken back']);
  });
});
