import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { concat } from '../../../bytes/index.ts';
import { encodeLinkFrame, LinkParser, MAX_FRAME, positionInFrame, type LinkEvent, type LinkFrame } from './link.ts';

const frames = fc.record<LinkFrame>({
  fromMaster: fc.boolean(),
  primary: fc.boolean(),
  countBit: fc.boolean(),
  countValid: fc.boolean(),
  functionCode: fc.integer({ min: 0, max: 15 }),
  destination: fc.integer({ min: 0, max: 65535 }),
  source: fc.integer({ min: 0, max: 65535 }),
  data: fc.uint8Array({ maxLength: 250 }),
});
const noise = fc.uint8Array({ maxLength: 40 });

const framesOf = (events: LinkEvent[]): LinkFrame[] => events.flatMap((e) => (e.type === 'frame' ? [e.frame] : []));
const noiseOf = (events: LinkEvent[]): number => events.reduce((n, e) => n + (e.type === 'noise' ? e.octets : 0), 0);

describe('link frames', () => {
  test('decoding is the inverse of encoding', () => {
    fc.assert(
      fc.property(frames, (frame) => {
        expect(framesOf(new LinkParser().push(encodeLinkFrame(frame)))).toEqual([frame]);
      }),
    );
  });

  test('any chunking of a noisy stream gives the same frames and counts', () => {
    fc.assert(
      fc.property(fc.array(fc.tuple(noise, frames), { maxLength: 5 }), fc.array(fc.nat(60)), (parts, cuts) => {
        const stream = concat(parts.flatMap(([garbage, frame]) => [garbage, encodeLinkFrame(frame)]));
        const whole = new LinkParser().push(stream);
        const parser = new LinkParser();
        const pieces: LinkEvent[] = [];
        let at = 0;
        for (const cut of [...cuts, stream.length]) {
          pieces.push(...parser.push(stream.subarray(at, at + cut)));
          at = Math.min(stream.length, at + cut);
        }
        pieces.push(...parser.push(stream.subarray(at)));
        expect(framesOf(pieces)).toEqual(framesOf(whole));
        expect(noiseOf(pieces)).toBe(noiseOf(whole));
        const count = (events: LinkEvent[], type: string): number => events.filter((e) => e.type === type).length;
        for (const type of ['headerChecksum', 'bodyChecksum']) expect(count(pieces, type)).toBe(count(whole, type));
      }),
    );
  });

  test('a changed octet is detected, and the frame behind it is found', () => {
    fc.assert(
      fc.property(frames, frames, fc.nat(), fc.integer({ min: 1, max: 255 }), (broken, good, where, flip) => {
        const octets = encodeLinkFrame(broken);
        octets[where % octets.length] ^= flip;
        // Fill up, so that a changed length cannot keep the parser waiting.
        const stream = concat([octets, encodeLinkFrame(good), new Uint8Array(2 * MAX_FRAME)]);
        const found = framesOf(new LinkParser().push(stream));
        expect(found).not.toContainEqual(broken);
        expect(found).toContainEqual(good);
      }),
    );
  });

  test('a frame that begins within garbage that looks like a start is found', () => {
    const frame: LinkFrame = {
      fromMaster: false,
      primary: true,
      countBit: false,
      countValid: false,
      functionCode: 4,
      destination: 1,
      source: 11,
      data: Uint8Array.of(0xc0, 1, 2),
    };
    const events = new LinkParser().push(concat([Uint8Array.of(0x05, 0x05, 0x64, 0x05, 0x64), encodeLinkFrame(frame)]));
    expect(framesOf(events)).toEqual([frame]);
  });

  test('positions of user data pass over the checksums', () => {
    expect([0, 15, 16, 32].map(positionInFrame)).toEqual([10, 25, 28, 46]);
  });
});
