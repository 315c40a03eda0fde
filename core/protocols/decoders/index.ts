import { decoder as dnp3 } from '../dnp3/decoder.ts';
import type { Decoder, DecoderSide } from '../decoder.ts';
import type { LinkedCode, OfferedCode, ProtocolCode } from '../definitions.ts';
import { decoder as mqtt } from '../mqtt/decoder.ts';
import { decoder as mms } from '../mms/decoder.ts';
import { decoder as modbus } from '../modbus/decoder.ts';

/*
 * The third registration: what makes messages of the octets of each protocol that goes over links. It needs no session and
 * no machine, so that a worker in the browser can load it too.
 */
const DECODERS: Record<LinkedCode | OfferedCode, DecoderSide> & Partial<Record<ProtocolCode, DecoderSide>> = {
  dnp3,
  modbus,
  iec61850: mms,
  tase2: mms,
  mqtt,
};

/** For one conversation in that protocol; null: what it says is not decoded. */
export const decoderOf = (protocol: ProtocolCode, framing: string): Decoder | null =>
  DECODERS[protocol]?.make(framing) ?? null;
export type { Decoder, Message, Speaker } from '../decoder.ts';
