import { describe, expect, test } from 'vitest';
import {
  checkPoints,
  countsAllowed,
  countsToSend,
  draftPointSchema,
  NEW_SETTING,
  roundedTo,
  textToSend,
} from '../index.ts';
import { rawValue, scaledValue } from '../../point/index.ts';

const level = {
  ...draftPointSchema.parse({
    kind: 'setpoint',
    at: { protocol: 'dnp3', index: 0, sentAs: 'int16' },
    name: 'Level wanted',
    unit: 'm',
    gain: 0.001,
  }),
  setting: { ...NEW_SETTING, low: 0.5, high: 4 },
};

describe('what goes to the device', () => {
  test('a value in its unit, as whole counts where the form has no others', () => {
    expect(countsToSend(2.5, level)).toEqual({ ok: true, value: 2500 });
    expect(countsToSend(2.5004, level)).toEqual({ ok: true, value: 2500 });
    const float = { ...level, at: { ...level.at, sentAs: 'float32' as const } };
    expect(countsToSend(2.5004, float)).toEqual({ ok: true, value: 2.5004 / 0.001 });
  });

  test('counts that are no whole number are refused where the form has no others', () => {
    const plain = { ...level, gain: 1, unit: '', setting: NEW_SETTING };
    const problem = 'Level wanted: 7.5 is no whole number, and int16 holds no others';
    expect([countsToSend(7.5, plain), countsAllowed(7.5, plain)]).toEqual([
      { ok: false, problem },
      { ok: false, problem },
    ]);
    expect(countsAllowed(8.0000005, plain)).toEqual({ ok: true, value: 8 });
    const float = { ...plain, at: { ...plain.at, sentAs: 'float32' as const } };
    expect(countsToSend(7.5, float)).toEqual({ ok: true, value: 7.5 });
    expect(roundedTo(7.5, float)).toBeNull();
  });

  test('what a scaling makes of a value is rounded, and that can be said before', () => {
    expect([roundedTo(2.5, level), roundedTo(2.5004, level), roundedTo(9, level)]).toEqual([null, 2.5, null]);
    // A centre's float of 32 bits means what it is nearest to.
    expect(roundedTo(Math.fround(2.512), level)).toBeNull();
  });

  test('through two pairs, the wrong way round too', () => {
    const valve = { ...level, pairs: { rawLow: 20_000, rawHigh: 4000, low: 0, high: 100 }, setting: NEW_SETTING };
    expect(countsToSend(25, valve)).toEqual({ ok: true, value: 16_000 });
    for (const value of [0, 12.5, 99]) expect(scaledValue(rawValue(value, valve), valve)).toBeCloseTo(value, 9);
  });

  test.each([
    [0.4, 'Level wanted: 0.4 is below its lowest, 0.5 m'],
    [4.1, 'Level wanted: 4.1 is above its highest, 4 m'],
    [NaN, 'Level wanted: NaN is not a number'],
  ])('%f is refused', (value, problem) => {
    expect(countsToSend(value, level)).toEqual({ ok: false, problem });
  });

  test('what the form cannot hold is refused', () => {
    const wide = { ...level, setting: { ...level.setting, low: null, high: null } };
    expect(countsToSend(40, wide)).toEqual({
      ok: false,
      problem: 'Level wanted: 40000 counts do not fit int16, which holds -32768 to 32767',
    });
  });

  test('counts of a centre keep to the same limits', () => {
    expect(countsAllowed(3999.6, level)).toEqual({ ok: true, value: 4000 });
    expect(countsAllowed(4001, level)).toMatchObject({ ok: false });
    expect(countsAllowed(1, { ...level, setting: null })).toMatchObject({ ok: false });
  });
});

describe('a text', () => {
  const label = {
    ...draftPointSchema.parse({
      kind: 'text',
      at: { protocol: 'modbus', table: 'holdingRegisters', address: 10, type: 'text', registers: 4 },
      name: 'Label',
    }),
    setting: NEW_SETTING,
  };

  test('goes out when it fits, in characters that the device can hold', () => {
    expect(textToSend('PUMP 2', label)).toEqual({ ok: true, value: 'PUMP 2' });
    expect(textToSend('', label)).toEqual({ ok: true, value: '' });
    const problem = (text: string, point = label): string | null => {
      const sent = textToSend(text, point);
      return sent.ok ? null : sent.problem;
    };
    expect(problem('PUMP NO 2')).toBe('Label: it has 9 characters, more than the 8 that fit');
    expect(problem('Köln')).toBe('Label: "ö" is no character that the device can hold');
    expect(problem('a\nb')).toContain('is no character');
    expect(problem('x', { ...label, setting: null } as unknown as typeof label)).toBe('Label is not to be written');
    expect(problem('x', { ...label, at: { ...label.at, table: 'inputRegisters' } } as typeof label)).toBe(
      'Label: only a text in holding registers can be written',
    );
    const string = { ...draftPointSchema.parse({ kind: 'text', at: { protocol: 'dnp3', index: 3 }, name: 'Label' }) };
    expect(textToSend('Köln', { ...string, setting: NEW_SETTING })).toEqual({ ok: true, value: 'Köln' });
  });
});

test('limits that cross, or that the form does not hold, are problems of the row', () => {
  const wordsOf = (setting: object): string[] =>
    checkPoints([{ ...level, setting: { ...level.setting, ...setting } }], null)
      .filter(({ severity }) => severity === 'problem')
      .map(({ words }) => words);
  expect(wordsOf({})).toEqual([]);
  expect(wordsOf({ low: 5 })).toEqual(['the lowest value to set, 5, is above the highest, 4']);
  expect(wordsOf({ high: 33 })).toEqual([expect.stringContaining('do not fit int16')]);
  expect(wordsOf({ feedback: 'AI 9' })).toEqual(['its feedback AI 9 is not in the list']);
});
