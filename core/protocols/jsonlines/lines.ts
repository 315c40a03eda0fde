import { numberOnWire, qualityWords, validity } from '../../point/index.ts';
import type { Packet, ToldValue } from '../publishing/form.ts';

/** A packet as lines, a JSON object each (RFC 8259; one a line is common practice). */
export function lines(packet: Packet): Uint8Array {
  const text = packet.values.map((told, at) => JSON.stringify(lineOf(told, packet, at === 0)) + '\n').join('');
  return new TextEncoder().encode(text);
}

function lineOf(told: ToldValue, packet: Packet, isFirst: boolean): object {
  const { number, address, name, value, text, unit, quality, time, unsynchronised } = told;
  const reasons = qualityWords(quality);
  return {
    id: number,
    packet: packet.number,
    ...(isFirst && packet.dropped > 0 ? { dropped: packet.dropped } : {}),
    point: address,
    ...(name === '' ? {} : { name }),
    // JSON has no infinities and nothing that is no number.
    value: Number.isFinite(numberOnWire(value, quality)) ? value : null,
    ...(text === null ? {} : { text }),
    ...(unit === '' ? {} : { unit }),
    quality: validity(quality),
    ...(reasons === '' ? {} : { reasons }),
    time: new Date(time).toISOString(),
    ...(unsynchronised ? { clock: 'not set' } : {}),
  };
}
