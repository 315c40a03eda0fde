import { describe, expect, test } from 'vitest';
import { decimals, Quality, qualityWords, scale, validity } from './index.ts';

describe('quality', () => {
  test('forced is valid, over range questionable, lost communication invalid', () => {
    expect(validity(Quality.forcedAtDevice)).toBe('good');
    expect(validity(Quality.overRange)).toBe('questionable');
    expect(validity(Quality.commLost | Quality.forcedAtDevice)).toBe('invalid');
    expect(qualityWords(Quality.commLost | Quality.overRange)).toBe('no communication, over range');
  });
});

describe('scaling', () => {
  test('is linear', () => expect(scale(8124, { gain: 0.025, offset: 0 })).toBeCloseTo(203.1));
  test('shows as many decimals as the gain carries', () =>
    expect([1, 0.1, 0.01, 0.025].map((gain) => decimals({ gain, offset: 0 }))).toEqual([0, 1, 2, 3]));
});
