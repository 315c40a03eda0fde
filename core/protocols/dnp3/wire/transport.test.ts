import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { encodeLinkFrame } from './link.ts';
import { positionsInFrames, Reassembler, segment } from './transport.ts';

const FRAME = new Uint8Array(0);
const pushAll = (r: Reassembler, segments: Uint8Array[]): ReturnType<Reassembler['push']>[] =>
  segments.map((s) => r.push(s, FRAME));

describe('transport', () => {
  test('reassembly is the inverse of segmenting', () => {
    fc.assert(
      fc.property(fc.uint8Array({ minLength: 1, maxLength: 2048 }), fc.nat(63), (fragment, sequence) => {
        const results = pushAll(new Reassembler(2048), segment(fragment, sequence));
        expect(results.map((r) => r.problem)).toEqual(results.map(() => null));
        expect(results.at(-1)?.done?.fragment).toEqual(fragment);
      }),
    );
  });

  test('a repeated segment is passed over, a missing one drops the fragment', () => {
    const segments = segment(new Uint8Array(700), 62);
    const repeated = pushAll(new Reassembler(2048), [segments[0], segments[1], segments[1], segments[2]]);
    expect(repeated[3].done?.fragment).toHaveLength(700);
    const missing = pushAll(new Reassembler(2048), [segments[0], segments[2]]);
    expect(missing[1]).toEqual({ done: null, problem: 'sequenceBroken' });
  });

  test('an over-long fragment is dropped, and the next one is taken', () => {
    const reassembler = new Reassembler(500);
    const results = pushAll(reassembler, segment(new Uint8Array(600), 0));
    expect(results.map((r) => r.problem)).toContain('fragmentTooLong');
    expect(pushAll(reassembler, segment(new Uint8Array(100), 0))[0].done?.fragment).toHaveLength(100);
  });

  test('octets of a fragment are found again in the frames that carried it', () => {
    const fragment = Uint8Array.from({ length: 600 }, (_, i) => (i * 7) & 0xff);
    const frames = segment(fragment, 0).map((data) =>
      encodeLinkFrame({
        fromMaster: false,
        primary: true,
        countBit: false,
        countValid: false,
        functionCode: 4,
        destination: 1,
        source: 11,
        data,
      }),
    );
    for (const offset of [0, 15, 16, 240, 248, 249, 597]) {
      const octets = positionsInFrames(offset, 3).map(({ frame, position }) => frames[frame][position]);
      expect(octets).toEqual([...fragment.subarray(offset, offset + 3)]);
    }
  });
});
