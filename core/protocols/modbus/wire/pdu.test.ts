import { describe, expect, test } from 'vitest';
import { fromHex, toHex as spaced } from '../../../bytes/index.ts';
import {
  decodeAnswer,
  decodeRequest,
  encodeException,
  encodeRequest,
  encodeResponse,
  type Request,
  type Response,
} from './pdu.ts';

const toHex = (octets: Uint8Array): string => spaced(octets).replaceAll(' ', '');

const hex = (text: string): Uint8Array => fromHex(text.replaceAll(' ', ''));
const words = (text: string): Uint8Array => hex(text);

/** The worked examples of Modbus Application Protocol V1.1b3, each with its clause; the octets are as printed there. */
const EXAMPLES: [clause: string, request: string, Request, response: string, Response][] = [
  [
    '6.1 read coils 20 to 38',
    '01 0013 0013',
    { code: 0x01, address: 0x13, count: 0x13 },
    '01 03 CD6B05',
    { code: 0x01, data: words('CD6B05') },
  ],
  [
    '6.2 read discrete inputs 197 to 218',
    '02 00C4 0016',
    { code: 0x02, address: 0xc4, count: 0x16 },
    '02 03 ACDB35',
    { code: 0x02, data: words('ACDB35') },
  ],
  [
    '6.3 read holding registers 108 to 110',
    '03 006B 0003',
    { code: 0x03, address: 0x6b, count: 3 },
    '03 06 022B00000064',
    { code: 0x03, data: words('022B00000064') },
  ],
  [
    '6.4 read input register 9',
    '04 0008 0001',
    { code: 0x04, address: 8, count: 1 },
    '04 02 000A',
    { code: 0x04, data: words('000A') },
  ],
  [
    '6.5 write coil 173 on',
    '05 00AC FF00',
    { code: 0x05, address: 0xac, on: true },
    '05 00AC FF00',
    { code: 0x05, address: 0xac, value: 0xff00 },
  ],
  [
    '6.6 write register 2',
    '06 0001 0003',
    { code: 0x06, address: 1, registers: words('0003') },
    '06 0001 0003',
    { code: 0x06, address: 1, registers: words('0003') },
  ],
  [
    '6.8 return query data',
    '08 0000 A537',
    { code: 0x08, sub: 0, data: words('A537') },
    '08 0000 A537',
    { code: 0x08, sub: 0, data: words('A537') },
  ],
  [
    '6.11 write coils 20 to 29',
    '0F 0013 000A 02 CD01',
    { code: 0x0f, address: 0x13, bits: [...'1011001110'].map((bit) => bit === '1') },
    '0F 0013 000A',
    { code: 0x0f, address: 0x13, count: 10 },
  ],
  [
    '6.12 write registers 2 and 3',
    '10 0001 0002 04 000A0102',
    { code: 0x10, address: 1, registers: words('000A0102') },
    '10 0001 0002',
    { code: 0x10, address: 1, count: 2 },
  ],
  [
    '6.16 mask write register 5',
    '16 0004 00F2 0025',
    { code: 0x16, address: 4, and: 0xf2, or: 0x25 },
    '16 0004 00F2 0025',
    { code: 0x16, address: 4, and: 0xf2, or: 0x25 },
  ],
  [
    '6.17 read six registers from 4, write three from 15',
    '17 0003 0006 000E 0003 06 00FF00FF00FF',
    { code: 0x17, address: 3, count: 6, writeAddress: 14, registers: words('00FF00FF00FF') },
    '17 0C 00FE0ACD00010003000D00FF',
    { code: 0x17, data: words('00FE0ACD00010003000D00FF') },
  ],
];

describe('the worked examples of the specification', () => {
  test.each(EXAMPLES)('%s', (_clause, asked, request, answered, response) => {
    expect(toHex(encodeRequest(request))).toBe(toHex(hex(asked)));
    expect(decodeRequest(hex(asked))).toEqual(request);
    expect(toHex(encodeResponse(response))).toBe(toHex(hex(answered)));
    expect(decodeAnswer(hex(answered), request)).toEqual({ ok: true, response });
  });

  test('7: an exception to a read of coil 1186', () => {
    expect(decodeAnswer(hex('81 02'), { code: 0x01, address: 0x04a1, count: 1 })).toEqual({ ok: false, exception: 2 });
    expect(toHex(encodeException(0x01, 2))).toBe('8102');
  });

  test('6.21: a device says what it is, in three objects', () => {
    const objects = [
      { id: 0, text: 'Company identification' },
      { id: 1, text: 'Product code XX' },
      { id: 2, text: 'V2.11' },
    ];
    const response: Response = { code: 0x2b, access: 1, conformity: 1, next: null, objects };
    const request: Request = { code: 0x2b, access: 1, object: 0 };
    expect(toHex(encodeRequest(request))).toBe('2b0e0100');
    expect(toHex(encodeResponse(response)).slice(0, 18)).toBe('2b0e0101000003' + '0016');
    expect(decodeAnswer(encodeResponse(response), request)).toEqual({ ok: true, response });
  });
});

describe('what is not as it should be', () => {
  test.each([
    ['a function that nobody knows', '41 00', 1],
    ['no register at all', '03 0000 0000', 3],
    ['126 registers', '03 0000 007E', 3],
    ['2001 coils', '01 0000 07D1', 3],
    ['beyond the last register', '03 FFFF 0002', 2],
    ['a coil neither on nor off', '05 0000 1234', 3],
    ['a count that is not what follows', '10 0000 0002 04 0001', 3],
    ['124 registers to write', `10 0000 007C F8 ${'00'.repeat(248)}`, 3],
    ['another encapsulated interface', '2B 0D 01 00', 1],
    ['nothing but a function', '03', 3],
  ])('%s deserves its exception', (_what, octets, exception) => {
    expect(decodeRequest(hex(octets))).toBe(exception);
  });

  test.each([
    ['fewer data than asked for', '03 02 0001'],
    ['a count that is not what follows', '03 04 0001'],
    ['another function', '04 04 00010002'],
    ['nothing', '03'],
  ])('an answer with %s is none', (_what, octets) => {
    expect(typeof decodeAnswer(hex(octets), { code: 0x03, address: 0, count: 2 })).toBe('string');
  });
});
