import { concat } from '../../bytes/index.ts';
import type { Instant } from '../../session/index.ts';
import type { Decoder, DecoderSide, Message, Speaker } from '../decoder.ts';
import { dataWords, pduWords } from './describe.ts';
import { decodeApdu } from './wire/acse.ts';
import { decodeTpdu, reasonWords, type Tpdu } from './wire/cotp.ts';
import type { AccessResult } from './wire/data.ts';
import { nameWords } from './wire/names.ts';
import { decodePdu, type Pdu } from './wire/pdu.ts';
import { decodeUserData } from './wire/presentation.ts';
import type { Variables } from './wire/services.ts';
import { decodeSpdu } from './wire/session.ts';
import { encodeTpkt, TpktReader } from './wire/tpkt.ts';

/** Of one message, in its own rows. */
const MOST_PARTS = 60;
/** A message that is longer is not put together. */
const MOST_OCTETS = 4 << 20;

/** A message of MMS in words, with what it carries. */
export function messageOf(octets: Uint8Array): Pick<Message, 'words' | 'isOdd' | 'parts'> {
  const pdu = decodePdu(octets);
  if (!pdu.ok) return { words: `not understood: ${pdu.problem}`, isOdd: true, parts: [] };
  return { words: pduWords(pdu.value), isOdd: false, parts: partsOf(pdu.value) };
}

/** What a message carries, a row each: names with their values, as far as it says them. */
function partsOf(pdu: Pdu): [string, string][] {
  const rows = (of: Variables | null, values: readonly AccessResult[]): [string, string][] =>
    values.slice(0, MOST_PARTS).map((value, at) => {
      const name = of?.names?.[at];
      return [name ? nameWords(name.name) : `${of?.list ? `${nameWords(of.list)} ` : ''}${at + 1}`, dataWords(value)];
    });
  if (pdu.type === 'report') return rows(pdu.variables, pdu.results);
  if (pdu.type === 'response' && pdu.service === 'read') return rows(null, pdu.response.results);
  if (pdu.type === 'request' && pdu.service === 'write') return rows(pdu.request.variables, pdu.request.values);
  if (pdu.type === 'request' && pdu.service === 'read')
    return (pdu.request.variables.names ?? []).slice(0, MOST_PARTS).map(({ name }) => [nameWords(name), '']);
  if (pdu.type === 'request' && pdu.service === 'defineList')
    return pdu.request.names.slice(0, MOST_PARTS).map(({ name }) => [nameWords(name), '']);
  if (pdu.type === 'response' && pdu.service === 'nameList')
    return pdu.response.names.slice(0, MOST_PARTS).map((name, at) => [String(at + 1), name]);
  return [];
}

/** An association, from packets on a stream up to MMS. */
class MmsDecoder implements Decoder {
  private readonly ways: Record<Speaker, { packets: TpktReader; parts: Uint8Array[]; octets: number; said: boolean }> =
    {
      asking: { packets: new TpktReader(), parts: [], octets: 0, said: false },
      asked: { packets: new TpktReader(), parts: [], octets: 0, said: false },
    };

  push(octets: Uint8Array, side: Speaker, at: Instant): Message[] {
    const way = this.ways[side];
    const messages: Message[] = [];
    const add = (one: Pick<Message, 'words' | 'isOdd'> & Partial<Message>, own: Uint8Array): void =>
      void messages.push({ side, at, octets: own, parts: [], ...one });
    for (const packet of way.packets.push(octets)) {
      const tpdu = decodeTpdu(packet);
      if (!tpdu.ok) add({ words: `not understood: ${tpdu.problem}`, isOdd: true }, encodeTpkt(packet));
      else if (tpdu.value.type !== 'data') {
        // A new connection begins with nothing of the one before.
        [way.parts, way.octets] = [[], 0];
        add(transportWords(tpdu.value), encodeTpkt(packet));
      } else {
        way.parts.push(tpdu.value.data);
        way.octets += tpdu.value.data.length;
        if (!tpdu.value.last && way.octets <= MOST_OCTETS) continue;
        const message = concat(way.parts);
        [way.parts, way.octets] = [[], 0];
        add(sessionMessage(message), message);
      }
    }
    const { problem } = way.packets;
    if (problem !== null && !way.said) {
      way.said = true;
      add({ words: `not understood from here on: ${problem}`, isOdd: true }, octets);
    }
    return messages;
  }
}

function transportWords(tpdu: Exclude<Tpdu, { type: 'data' }>): Pick<Message, 'words' | 'isOdd'> {
  switch (tpdu.type) {
    case 'connectRequest':
      return { words: 'transport: connect', isOdd: false };
    case 'connectConfirm':
      return { words: 'transport: connected', isOdd: false };
    case 'disconnect':
      return { words: `transport: disconnected, ${reasonWords(tpdu.reason)}`, isOdd: true };
    case 'error':
      return { words: `transport: error ${tpdu.reason}`, isOdd: true };
    default:
      return tpdu satisfies never;
  }
}

function sessionMessage(octets: Uint8Array): Pick<Message, 'words' | 'isOdd'> & Partial<Message> {
  const spdu = decodeSpdu(octets);
  if (!spdu.ok) return { words: `not understood: ${spdu.problem}`, isOdd: true };
  if (spdu.value.type !== 'data')
    return { words: `session: ${SESSION_WORDS[spdu.value.type]}`, isOdd: spdu.value.type === 'abort' };
  const user = decodeUserData(spdu.value.data);
  if (!user.ok) return { words: `not understood: ${user.problem}`, isOdd: true };
  // What ends an association goes in the other context; nothing else of it looks like a message of MMS.
  const apdu = decodeApdu(user.value.octets);
  if (apdu.ok) return { words: `association: ${apdu.value.type}`, isOdd: false };
  return messageOf(user.value.octets);
}

const SESSION_WORDS = {
  connect: 'connect, with the request of an association',
  accept: 'accepted, with the answer to the association',
  refuse: 'refused',
  finish: 'finish',
  disconnect: 'disconnected',
  abort: 'aborted',
  abortAccept: 'abort taken',
} as const;

export const decoder: DecoderSide = { make: () => new MmsDecoder() };
