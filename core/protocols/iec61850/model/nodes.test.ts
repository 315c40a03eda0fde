import { describe, expect, test } from 'vitest';
import { DATA_CLASSES, dataClass, unitWords } from './cdc.ts';
import { kindOf } from './model.ts';
import { GROUPS, NODE_CLASSES, nodeWords, objectInfo } from './nodes.ts';

describe('classes', () => {
  test('every node has a name of four characters, a group, and objects of classes that are known', () => {
    expect(NODE_CLASSES.size).toBeGreaterThan(50);
    for (const { name, meaning, objects } of NODE_CLASSES.values()) {
      expect([name, /^[A-Z]{3}[A-Z0]$/.test(name), meaning !== '']).toEqual([name, true, true]);
      expect(GROUPS).toHaveProperty(name.charAt(0));
      for (const object of objects) {
        expect([name, object.name, dataClass(object.cdc)?.name]).toEqual([name, object.name, object.cdc]);
        expect([name, object.name, object.meaning !== '']).toEqual([name, object.name, true]);
      }
      expect(new Set(objects.map((one) => one.name)).size).toBe(objects.length);
    }
  });

  test('in words', () => {
    expect(nodeWords('PTOC')).toBe('overcurrent, with time (protection)');
    expect(nodeWords('MXXX')).toBe('measurement');
    expect(objectInfo('XCBR', 'Pos')).toMatchObject({ cdc: 'DPC', isMandatory: true, meaning: 'position' });
    expect(objectInfo('GGIO', 'AnIn17')).toMatchObject({ cdc: 'MV' });
    expect(objectInfo('XCBR', 'Mod')).toMatchObject({ cdc: 'ENC' });
    expect(objectInfo('XCBR', 'Odd')).toBeNull();
  });

  test('a data class says what its value is, as the model finds it', () => {
    for (const { name, kind, value, constraint } of DATA_CLASSES) {
      expect([name, (kind === null) === (value.length === 0), (kind === null) === (constraint === null)]).toEqual([
        ...[name, true, true],
      ]);
      expect(DATA_CLASSES.filter((one) => one.name === name)).toHaveLength(1);
    }
    const last = dataClass('BCR')?.value.at(-1) ?? '';
    expect(kindOf(last, { type: 'integer', bits: 64 })).toBe(dataClass('BCR')?.kind);
    expect(kindOf('stVal', { type: 'bits', size: 2 })).toBe(dataClass('DPC')?.kind);
  });

  test('units', () => {
    expect([unitWords(29, 3), unitWords(5, 0), unitWords(62, 6), unitWords(33, -3), unitWords(1, 0)]).toEqual([
      ...['kV', 'A', 'MW', 'mHz', ''],
    ]);
    expect([unitWords(99, 0), unitWords(5, 4), unitWords(1, 3)]).toEqual(['unit 99', '10^4 A', '10^3']);
  });
});
