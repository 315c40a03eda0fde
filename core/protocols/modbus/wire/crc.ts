/** Checksums of the two serial framings (Modbus over Serial Line V1.02, 2.5.1.2 and 2.5.2.2). */

const TABLE = Uint16Array.from({ length: 256 }, (_, octet) => {
  let crc = octet;
  for (let bit = 0; bit < 8; bit++) crc = crc & 1 ? (crc >> 1) ^ 0xa001 : crc >> 1;
  return crc;
});

/** CRC-16 with the polynomial 0xA001, begun with ones; it goes over the line with its low octet first. */
export function crc16(octets: Uint8Array, from = 0, to = octets.length): number {
  let crc = 0xffff;
  for (let at = from; at < to; at++) crc = (crc >> 8) ^ TABLE[(crc ^ octets[at]) & 0xff];
  return crc;
}

/** The sum of all octets, negated. */
export function lrc(octets: Uint8Array): number {
  let sum = 0;
  for (const octet of octets) sum += octet;
  return -sum & 0xff;
}
