/*
 * Octets as a capture file that a dissector reads: pcap, little-endian, version 2.4, link type 101, which is raw IP (the
 * libpcap file format).
 */

const UDP = 17;
const TCP = 6;

function captureFile(packets: readonly Buffer[]): Buffer {
  const head = Buffer.alloc(24);
  head.writeUInt32LE(0xa1b2c3d4, 0);
  head.writeUInt16LE(2, 4);
  head.writeUInt16LE(4, 6);
  head.writeUInt32LE(0xffff, 16);
  head.writeUInt32LE(101, 20);
  const records = packets.flatMap((packet, i) => {
    const record = Buffer.alloc(16);
    record.writeUInt32LE(1_700_000_000 + Math.floor(i / 1000), 0);
    record.writeUInt32LE((i % 1000) * 1000, 4);
    record.writeUInt32LE(packet.length, 8);
    record.writeUInt32LE(packet.length, 12);
    return [record, packet];
  });
  return Buffer.concat([head, ...records]);
}

/** From the first to the second host, or back. */
function ipPacket(protocol: number, header: Buffer, octets: Uint8Array, isBack: boolean): Buffer {
  const ip = Buffer.alloc(20);
  ip.writeUInt8(0x45, 0);
  ip.writeUInt16BE(20 + header.length + octets.length, 2);
  ip.writeUInt8(64, 8);
  ip.writeUInt8(protocol, 9);
  ip.writeUInt32BE(isBack ? 0x7f000002 : 0x7f000001, 12);
  ip.writeUInt32BE(isBack ? 0x7f000001 : 0x7f000002, 16);
  let sum = 0;
  for (let at = 0; at < 20; at += 2) sum += ip.readUInt16BE(at);
  while (sum > 0xffff) sum = (sum & 0xffff) + (sum >>> 16);
  ip.writeUInt16BE(~sum & 0xffff, 10);
  return Buffer.concat([ip, header, octets]);
}

const CALLER_PORT = 40_000;
function ports(header: Buffer, port: number, isBack: boolean): void {
  header.writeUInt16BE(isBack ? port : CALLER_PORT, 0);
  header.writeUInt16BE(isBack ? CALLER_PORT : port, 2);
}

/** Each piece as a UDP datagram between two ports. */
export function captureOf(pieces: readonly { octets: Uint8Array; fromMaster: boolean }[], port: number): Buffer {
  return captureFile(
    pieces.map(({ octets, fromMaster }) => {
      const udp = Buffer.alloc(8);
      ports(udp, port, !fromMaster);
      udp.writeUInt16BE(8 + octets.length, 4);
      return ipPacket(UDP, udp, octets, !fromMaster);
    }),
  );
}

const SEGMENT_OCTETS = 60_000;

/** Each piece as TCP segments, after the others of its direction. */
export function streamOf(pieces: readonly { octets: Uint8Array; fromCaller: boolean }[], port: number): Buffer {
  const sent = { caller: 1, called: 1 };
  const packets: Buffer[] = [];
  for (const { octets, fromCaller } of pieces) {
    const [own, other] = fromCaller ? (['caller', 'called'] as const) : (['called', 'caller'] as const);
    for (let at = 0; at < octets.length; at += SEGMENT_OCTETS) {
      const part = octets.subarray(at, at + SEGMENT_OCTETS);
      const tcp = Buffer.alloc(20);
      ports(tcp, port, !fromCaller);
      tcp.writeUInt32BE(sent[own], 4);
      tcp.writeUInt32BE(sent[other], 8);
      // A header of five words; push and acknowledgement.
      tcp.writeUInt16BE(0x5018, 12);
      tcp.writeUInt16BE(0xffff, 14);
      sent[own] += part.length;
      packets.push(ipPacket(TCP, tcp, part, !fromCaller));
    }
  }
  return captureFile(packets);
}
