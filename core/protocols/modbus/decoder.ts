import type { Instant } from '../../session/index.ts';
import type { Decoder, DecoderSide, Message, Speaker } from '../decoder.ts';
import { describeFrame } from './describe.ts';
import { EXCEPTION } from './wire/pdu.ts';
import { framingNamed, modbusFraming, type FramingName, type WireEvent } from './wire/frame.ts';

/** Requests and answers, frame by frame. */
class ModbusDecoder implements Decoder {
  private readonly framings;

  constructor(framing: FramingName) {
    this.framings = { asking: modbusFraming(framing, 'requests', 0), asked: modbusFraming(framing, 'responses', 0) };
  }

  push(octets: Uint8Array, side: Speaker, at: Instant): Message[] {
    return this.framings[side].push(octets, at).map((event) => messageOf(event, side, at));
  }
}

function messageOf(event: WireEvent, side: Speaker, at: Instant): Message {
  const common = { side, at, octets: event.octets, parts: [] };
  switch (event.type) {
    case 'frame': {
      const transaction = event.transaction === null ? '' : `transaction ${event.transaction}, `;
      const isOdd = ((event.pdu[0] ?? 0) & EXCEPTION) !== 0;
      return { ...common, isOdd, words: `${transaction}${describeFrame(event.unit, event.pdu)}` };
    }
    case 'noise':
      return { ...common, isOdd: true, words: `${event.octets.length} octets that belong to no frame` };
    default:
      return {
        ...common,
        isOdd: true,
        words: event.type === 'checksum' ? 'wrong checksum' : 'a frame that is too short',
      };
  }
}

export const decoder: DecoderSide = { make: (framing) => new ModbusDecoder(framingNamed(framing)) };
