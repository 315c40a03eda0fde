import type { Instant } from '../../session/index.ts';
import type { Decoder, DecoderSide, Message, Speaker } from '../decoder.ts';
import { PacketReader, type Packet, type Version } from './wire/packets.ts';
import { reasonWords, refusalWords } from './wire/reasons.ts';

/** Packets of both sides. What version is spoken the first packet says; before it, 5. */
class BrokerDecoder implements Decoder {
  private readonly readers = { asking: new PacketReader(5), asked: new PacketReader(5) };

  push(octets: Uint8Array, side: Speaker, at: Instant): Message[] {
    const read = this.readers[side].push(octets);
    if (!read.ok) {
      this.readers[side] = new PacketReader(this.readers[side].version);
      return [{ side, at, words: read.problem, isOdd: true, octets, parts: [] }];
    }
    return read.value.map(({ packet, octets: own }) => {
      const { version } = this.readers[side];
      this.readers.asked.version = this.readers.asking.version = version;
      return { side, at, octets: own, ...wordsOf(packet, version) };
    });
  }
}

const text = (payload: unknown): string =>
  typeof payload === 'string' ? payload : new TextDecoder().decode(payload as Uint8Array);

function wordsOf(packet: Packet, version: Version): Pick<Message, 'words' | 'isOdd' | 'parts'> {
  const plain = (words: string, parts: Message['parts'] = [], isOdd = false): ReturnType<typeof wordsOf> => ({
    words,
    isOdd,
    parts,
  });
  switch (packet.cmd) {
    case 'connect':
      return plain(`CONNECT, client id ${packet.clientId}`, [
        ['Version', packet.protocolVersion === 5 ? '5.0' : '3.1.1'],
        ['Keep-alive', `${packet.keepalive ?? 0} s`],
        ['User', packet.username ?? 'none'],
      ]);
    case 'connack': {
      const code = packet.reasonCode ?? packet.returnCode ?? 0;
      return plain(code === 0 ? 'CONNACK' : `CONNACK: ${refusalWords(code, version)}`, [], code !== 0);
    }
    case 'publish':
      return plain(`PUBLISH to ${packet.topic}${packet.dup ? ', again' : ''}`, [
        ['Quality of service', String(packet.qos)],
        ['Kept', packet.retain ? 'yes' : 'no'],
        ['Content', text(packet.payload).slice(0, 2000)],
      ]);
    case 'puback': {
      const code = packet.reasonCode ?? 0;
      return plain(`PUBACK ${packet.messageId}${code === 0 ? '' : `: ${reasonWords(code)}`}`, [], code >= 0x80);
    }
    case 'subscribe':
      return plain(`SUBSCRIBE to ${packet.subscriptions.map(({ topic }) => topic).join(', ')}`);
    case 'disconnect': {
      const code = packet.reasonCode ?? 0;
      return plain(code === 0 ? 'DISCONNECT' : `DISCONNECT: ${reasonWords(code)}`, [], code >= 0x80);
    }
    default:
      return plain(packet.cmd.toUpperCase() + (packet.messageId === undefined ? '' : ` ${packet.messageId}`));
  }
}

export const decoder: DecoderSide = { make: () => new BrokerDecoder() };
