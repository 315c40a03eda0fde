import { describe, expect, test } from 'vitest';
import type { TypeOf } from '../mms/wire/data.ts';
import {
  applicationErrorData,
  applicationErrorOf,
  applicationErrorWords,
  CAUSES,
  causeWords,
  controlData,
  controlOf,
  isEnhanced,
  isSelected,
  MODELS,
  type ControlValue,
} from './control.ts';

const INTEGER: TypeOf = { type: 'integer', bits: 8 };
const operOf = (time: TypeOf): TypeOf & { type: 'structure' } => ({
  type: 'structure',
  components: [
    { name: 'ctlVal', of: { type: 'boolean' } },
    {
      name: 'origin',
      of: {
        type: 'structure',
        components: [
          { name: 'orCat', of: INTEGER },
          { name: 'orIdent', of: { type: 'octets', size: -64 } },
        ],
      },
    },
    { name: 'ctlNum', of: { type: 'unsigned', bits: 8 } },
    { name: 'T', of: time },
    { name: 'Test', of: { type: 'boolean' } },
    { name: 'Check', of: { type: 'bits', size: -2 } },
  ],
});
const control: ControlValue = {
  value: { type: 'boolean', value: true },
  origin: { category: 3, identity: Uint8Array.of(1, 2) },
  ...{ number: 257, time: 1500, test: false, synchrocheck: false, interlock: true },
};

describe('a control', () => {
  test('goes out in the parts that the device has, with the time in its form', () => {
    const two = controlData(operOf({ type: 'utcTime' }), control);
    expect(two.ok && two.value.type === 'structure' && two.value.items).toEqual([
      { type: 'boolean', value: true },
      {
        type: 'structure',
        items: [
          { type: 'integer', value: 3 },
          { type: 'octets', octets: Uint8Array.of(1, 2) },
        ],
      },
      { type: 'unsigned', value: 1 },
      { type: 'utcTime', octets: Uint8Array.of(0, 0, 0, 1, 0x80, 0, 0, 10) },
      { type: 'boolean', value: false },
      { type: 'bits', bits: [false, true] },
    ]);
    const one = controlData(operOf({ type: 'binaryTime', days: true }), { ...control, time: Date.UTC(1984, 0, 1) + 5 });
    expect(one.ok && one.value.type === 'structure' && one.value.items[3]).toEqual({
      ...{ type: 'binaryTime', octets: Uint8Array.of(0, 0, 0, 5, 0, 0) },
    });
    const cancel = operOf({ type: 'utcTime' });
    const short = controlData({ ...cancel, components: cancel.components.slice(0, 5) }, control);
    expect(short.ok && short.value.type === 'structure' && short.value.items).toHaveLength(5);
    expect(controlData(INTEGER, control).ok).toBe(false);
    expect(controlData({ type: 'structure', components: [{ name: 'odd', of: INTEGER }] }, control)).toEqual({
      ...{ ok: false, problem: 'it wants odd, which is not known here' },
    });
  });

  test('is read again as it was written', () => {
    const of = operOf({ type: 'utcTime' });
    const data = controlData(of, control);
    const { time: _, ...rest } = control;
    expect(data.ok && controlOf(of, data.value)).toEqual({ ok: true, value: { ...rest, number: 1 } });
    expect(controlOf(of, { type: 'structure', items: [] })).toMatchObject({ problem: 'it has 0 parts, of 6' });
    expect(controlOf(of, { type: 'boolean', value: true }).ok).toBe(false);
  });

  test('models: which select first, which tell the end', () => {
    expect(MODELS.map((model) => [isSelected(model), isEnhanced(model)])).toEqual([
      ...[
        [false, false],
        [false, false],
        [true, false],
        [false, true],
        [true, true],
      ],
    ]);
  });
});

describe('why a control is not done', () => {
  test.each(CAUSES.map((words, cause) => [cause, words] as const))('cause %i: %s', (cause, words) => {
    const error = { object: 'HLMF1/XCBR1$CO$Pos$Oper', error: 0, origin: control.origin, number: 7, cause };
    const read = applicationErrorOf(applicationErrorData(error));
    expect(read).toEqual({ ok: true, value: error });
    expect(applicationErrorWords(error)).toBe(words);
  });

  test('what is not known has its number; what is no such error is refused', () => {
    expect(causeWords(99)).toBe('cause 99');
    expect(applicationErrorOf({ type: 'structure', items: [] }).ok).toBe(false);
    const odd = applicationErrorData({ object: 'x', error: 3, origin: control.origin, number: 1, cause: 18 });
    if (odd.type === 'structure')
      expect(applicationErrorOf({ ...odd, items: [...odd.items].reverse() })).toMatchObject({ ok: false });
    expect(applicationErrorWords({ object: 'x', error: 3, origin: control.origin, number: 1, cause: 18 })).toBe(
      'object not selected (refused by the operator there)',
    );
  });
});
