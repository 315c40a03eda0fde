import type { Configuration, OutboundConfig } from '../config/index.ts';
import { isControl, objectWords } from '../protocols/dnp3/index.ts';
import { addressOf } from '../protocols/definitions.ts';
import { isScaled, KIND_WORDS, scalingOf } from '../point/index.ts';

export const SHEET_HEADING = [
  'Kind',
  'Address',
  'Name',
  'Unit',
  'Value',
  'Gain',
  'Offset',
  'States',
  'Event class',
  'Object',
  'Event object',
  'Direction',
  'Source',
] as const;

/** The map of one outbound for the people at the other end: a row a point, in the order of their addresses. */
export function mapSheet(outbound: OutboundConfig, devices: Configuration['devices']): string[][] {
  const points = new Map(
    devices.flatMap((device) =>
      device.points.map((point) => [`${device.code} ${addressOf(point)}`, { device, point }] as const),
    ),
  );
  const rows = outbound.mappings.flatMap(({ device, point: address, target }) => {
    const found = points.get(`${device} ${address}`);
    if (found === undefined) return [];
    const { point } = found;
    const { index, eventClass, staticVariation, eventVariation } = target.at;
    const { gain, offset } = target.value === 'raw' ? scalingOf(point) : { gain: 1, offset: 0 };
    const numeric = isScaled(target.kind);
    return [
      [
        KIND_WORDS[target.kind].one,
        String(index),
        `${device} ${point.name}`,
        point.unit,
        numeric ? (target.value === 'raw' ? 'raw' : 'in units') : '',
        numeric ? String(gain) : '',
        numeric ? String(offset) : '',
        point.states?.join(' / ') ?? '',
        eventClass === 0 ? 'none' : String(eventClass),
        objectWords(target.kind, 'static', staticVariation),
        eventClass > 0 ? objectWords(target.kind, 'event', eventVariation) : '',
        isControl(target.kind) ? 'status to the centre, control from it' : 'to the centre',
        `${device} ${address}`,
      ],
    ];
  });
  return [[...SHEET_HEADING], ...rows];
}
