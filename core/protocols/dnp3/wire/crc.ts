/**
 * The checksum of DNP3's FT3 blocks (IEEE 1815, clause 9.2; IEC 60870-5-1 FT3): x^16 + x^13 + x^12 + x^11 + x^10 +
 * x^8 + x^6 + x^5 + x^2 + 1 (0x3d65), reflected in and out, start 0, result inverted.
 */
const TABLE = Uint16Array.from({ length: 256 }, (_, octet) => {
  let crc = octet;
  for (let bit = 0; bit < 8; bit++) crc = crc & 1 ? (crc >>> 1) ^ 0xa6bc : crc >>> 1;
  return crc;
});

/** Checksum of `bytes[start, end)`, 0…65535; sent low octet first. */
export function crc16Dnp(bytes: Uint8Array, start = 0, end = bytes.length): number {
  let crc = 0;
  for (let i = start; i < end; i++) crc = (crc >>> 8) ^ TABLE[(crc ^ bytes[i]) & 0xff];
  return ~crc & 0xffff;
}

/** Whether the two octets after `bytes[start, end)` are its checksum. */
export const checksumHolds = (bytes: Uint8Array, start: number, end: number): boolean =>
  crc16Dnp(bytes, start, end) === (bytes[end] | (bytes[end + 1] << 8));
