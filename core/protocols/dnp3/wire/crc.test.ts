import { describe, expect, test } from 'vitest';
import { fromHex, toHex } from '../../../bytes/index.ts';
import { checksumHolds, crc16Dnp } from './crc.ts';
import { encodeLinkFrame, PrimaryFunction } from './link.ts';

describe('DNP3 checksum', () => {
  test('check value of CRC-16/DNP', () => {
    // Catalogue of parametrised CRC algorithms (G. Cook), entry CRC-16/DNP: check=0xea82 over "123456789".
    expect(crc16Dnp(new TextEncoder().encode('123456789'))).toBe(0xea82);
  });

  test('residue of CRC-16/DNP', () => {
    // The same catalogue: residue=0x66c5, the register after a message with its checksum, before the inversion.
    const message = fromHex('05 64 05 c9 0b 00 01 00');
    const crc = crc16Dnp(message);
    expect(~crc16Dnp(Uint8Array.of(...message, crc & 0xff, crc >>> 8)) & 0xffff).toBe(0x66c5);
  });

  test('is sent low octet first', () => {
    const bytes = fromHex('31 32 33 34 35 36 37 38 39 82 ea');
    expect(checksumHolds(bytes, 0, 9)).toBe(true);
    expect(checksumHolds(fromHex('31 32 33 34 35 36 37 38 39 ea 82'), 0, 9)).toBe(false);
  });

  test('reset link frame', () => {
    // From memory: a frame common in DNP3 teaching texts, reset link states from 1024 to 1. The whole-system test
    // has an independent dissector check the checksums of everything we send.
    const frame = encodeLinkFrame({
      fromMaster: true,
      primary: true,
      countBit: false,
      countValid: false,
      functionCode: PrimaryFunction.resetLinkStates,
      destination: 1,
      source: 1024,
      data: new Uint8Array(0),
    });
    expect(toHex(frame)).toBe('05 64 05 c0 01 00 00 04 e9 21');
  });
});
