import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { concat, fromHex, toHex as spaced } from '../../../bytes/index.ts';
import { crc16, lrc } from './crc.ts';
import { encodeFrame, FRAMINGS, modbusFraming, type FramingName, type WireEvent } from './frame.ts';
import { encodeRequest, encodeResponse } from './pdu.ts';

const toHex = (octets: Uint8Array): string => spaced(octets).replaceAll(' ', '');

const framesOf = (events: readonly WireEvent[]): string[] =>
  events.flatMap((event) => (event.type === 'frame' ? `${event.unit} ${toHex(event.pdu)}` : []));
const ANSWER = encodeResponse({ code: 0x03, data: fromHex('022b00000064') });

describe('checksums', () => {
  // CRC-16/MODBUS of the nine digits, a check value that catalogues of checksums give (0x4B37).
  test('of the digits 1 to 9', () => {
    const digits = Uint8Array.from('123456789', (digit) => digit.charCodeAt(0));
    expect(crc16(digits)).toBe(0x4b37);
  });

  test('a frame over a line, as it is often printed: unit 17 asked for registers 108 to 110', () => {
    const request = encodeRequest({ code: 0x03, address: 0x6b, count: 3 });
    expect(toHex(encodeFrame('rtu', 0, 0x11, request))).toBe('1103006b00037687');
    const text = String.fromCharCode(...encodeFrame('ascii', 0, 0x11, request));
    expect(text).toBe(':1103006B00037E\r\n');
    expect(lrc(fromHex('1103006b0003'))).toBe(0x7e);
  });

  // Modbus Messaging on TCP/IP V1.0b, 3.1.3 and the example of its annex: transaction 0x1501, unit 0xFF.
  test('over TCP: the header says transaction, protocol, length and unit', () => {
    const request = encodeRequest({ code: 0x03, address: 4, count: 1 });
    expect(toHex(encodeFrame('tcp', 0x1501, 0xff, request))).toBe('150100000006ff0300040001');
  });
});

describe.each(FRAMINGS)('%s', (framing: FramingName) => {
  const wireOf = (): ReturnType<typeof modbusFraming> => modbusFraming(framing, 'responses', 0);

  test('frames come out however they are cut', () => {
    const stream = concat([1, 2, 3].map((unit) => encodeFrame(framing, unit, unit, ANSWER)));
    fc.assert(
      fc.property(fc.array(fc.integer({ min: 1, max: 9 })), (cuts) => {
        const wire = wireOf();
        const events: WireEvent[] = [];
        let at = 0;
        for (const cut of [...cuts, stream.length]) {
          events.push(...wire.push(stream.subarray(at, at + cut), 0));
          at += cut;
        }
        expect(framesOf(events)).toEqual([1, 2, 3].map((unit) => `${unit} ${toHex(ANSWER)}`));
        expect(events.every((event) => wire.isFrame(event))).toBe(true);
      }),
    );
  });

  test('after garbage and broken frames the next whole one is found', () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 40 }), fc.integer({ min: 0, max: 8 }), (garbage, at) => {
        const wire = wireOf();
        const broken = encodeFrame(framing, 1, 1, ANSWER);
        if (framing !== 'tcp') broken[at + 1] ^= 0x11;
        const events = [...wire.push(garbage, 0), ...wire.push(framing === 'tcp' ? garbage : broken, 1)];
        // What was begun is given up once the line has rested; a stream without rests finds its way by itself.
        for (let n = 0; n < 40; n++) events.push(...wire.push(encodeFrame(framing, 7, 7, ANSWER), 1000 * (n + 1)));
        expect(framesOf(events).filter((one) => one === `7 ${toHex(ANSWER)}`).length).toBeGreaterThan(5);
      }),
    );
  });

  test('nothing that comes makes it fail or keep more than a frame', () => {
    fc.assert(
      fc.property(fc.array(fc.uint8Array({ maxLength: 300 }), { maxLength: 20 }), (chunks) => {
        const wire = wireOf();
        for (const [n, chunk] of chunks.entries()) wire.push(chunk, n);
        const buffered = (wire as unknown as { buffer: Uint8Array }).buffer.length;
        expect(buffered).toBeLessThanOrEqual(600);
      }),
    );
  });
});

describe('over a line', () => {
  test('what is begun and not gone on with is a short frame', () => {
    const wire = modbusFraming('rtu', 'responses', 1);
    const frame = encodeFrame('rtu', 0, 1, ANSWER);
    expect(wire.push(frame.subarray(0, 4), 0)).toEqual([]);
    const events = wire.push(frame, 1000);
    expect(events.map(({ type }) => type)).toEqual(['short', 'frame']);
  });

  test('a wrong checksum is one; the silence between frames is 3.5 characters', () => {
    const wire = modbusFraming('rtu', 'responses', 1.146);
    expect(wire.gapMs).toBeCloseTo(4.01, 1);
    const frame = encodeFrame('rtu', 0, 1, ANSWER);
    frame[4] ^= 1;
    const events = [...wire.push(frame, 0), ...wire.push(encodeFrame('rtu', 0, 2, ANSWER), 1)];
    expect(events.map(({ type }) => type).filter((type) => type !== 'noise')).toEqual(['checksum', 'frame']);
  });
});
