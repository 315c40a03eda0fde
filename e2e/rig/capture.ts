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

/** The same for a stream: each piece as a TCP segment, after the others of its direction. */
export function streamOf(pieces: readonly { octets: Uint8Array; fromCaller: boolean }[], port: number): Buffer {
  const head = Buffer.alloc(24);
  head.writeUInt32LE(0xa1b2c3d4, 0);
  head.writeUInt16LE(2, 4);
  head.writeUInt16LE(4, 6);
  head.writeUInt32LE(0xffff, 16);
  head.writeUInt32LE(101, 20);
  const next = { caller: 1, called: 1 };
  const packets = pieces.flatMap(({ octets, fromCaller }) => {
    const [own, other] = fromCaller ? (['caller', 'called'] as const) : (['called', 'caller'] as const);
    const parts: Buffer[] = [];
    for (let at = 0; at < octets.length; at += 60_000) {
      const part = octets.subarray(at, at + 60_000);
      const tcp = Buffer.alloc(20);
      tcp.writeUInt16BE(fromCaller ? 40_000 : port, 0);
      tcp.writeUInt16BE(fromCaller ? port : 40_000, 2);
      tcp.writeUInt32BE(next[own], 4);
      tcp.writeUInt32BE(next[other], 8);
      // A header of five words; push and acknowledgement.
      tcp.writeUInt16BE(0x5018, 12);
      tcp.writeUInt16BE(0xffff, 14);
      const ip = Buffer.alloc(20);
      ip.writeUInt8(0x45, 0);
      ip.writeUInt16BE(40 + part.length, 2);
      ip.writeUInt8(64, 8);
      ip.writeUInt8(6, 9);
      ip.writeUInt32BE(fromCaller ? 0x7f000001 : 0x7f000002, 12);
      ip.writeUInt32BE(fromCaller ? 0x7f000002 : 0x7f000001, 16);
      const record = Buffer.alloc(16);
      record.writeUInt32LE(1_700_000_000, 0);
      record.writeUInt32LE(next.caller + next.called, 4);
      record.writeUInt32LE(40 + part.length, 8);
      record.writeUInt32LE(40 + part.length, 12);
      next[own] += part.length;
      parts.push(Buffer.concat([record, ip, tcp, part]));
    }
    return parts;
  });
  return Buffer.concat([head, ...packets]);
}
