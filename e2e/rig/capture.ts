/** Writes octets as a capture file that a dissector reads: each piece as a UDP datagram between two ports. */
export function captureOf(pieces: readonly { octets: Uint8Array; fromMaster: boolean }[], port: number): Buffer {
  // pcap, little-endian, version 2.4, link type 101: raw IP (the libpcap file format).
  const head = Buffer.alloc(24);
  head.writeUInt32LE(0xa1b2c3d4, 0);
  head.writeUInt16LE(2, 4);
  head.writeUInt16LE(4, 6);
  head.writeUInt32LE(0xffff, 16);
  head.writeUInt32LE(101, 20);
  const packets = pieces.map(({ octets, fromMaster }, i) => {
    const udp = Buffer.alloc(8);
    udp.writeUInt16BE(fromMaster ? 40_000 : port, 0);
    udp.writeUInt16BE(fromMaster ? port : 40_000, 2);
    udp.writeUInt16BE(8 + octets.length, 4);
    const ip = Buffer.alloc(20);
    ip.writeUInt8(0x45, 0);
    ip.writeUInt16BE(28 + octets.length, 2);
    ip.writeUInt8(64, 8);
    ip.writeUInt8(17, 9);
    ip.writeUInt32BE(0x7f000001, 12);
    ip.writeUInt32BE(0x7f000001, 16);
    let sum = 0;
    for (let at = 0; at < 20; at += 2) sum += ip.readUInt16BE(at);
    while (sum > 0xffff) sum = (sum & 0xffff) + (sum >>> 16);
    ip.writeUInt16BE(~sum & 0xffff, 10);
    const record = Buffer.alloc(16);
    record.writeUInt32LE(1_700_000_000 + Math.floor(i / 1000), 0);
    record.writeUInt32LE((i % 1000) * 1000, 4);
    record.writeUInt32LE(28 + octets.length, 8);
    record.writeUInt32LE(28 + octets.length, 12);
    return Buffer.concat([record, ip, udp, octets]);
  });
  return Buffer.concat([head, ...packets]);
}
