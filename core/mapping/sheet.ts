import type { Configuration, OutboundConfig } from '../config/index.ts';
import { isControl, objectWords } from '../protocols/dnp3/index.ts';
import { addressWords, isScaled, KIND_WORDS, scalingOf } from '../point/index.ts';

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
      device.points.map((point) => [`${device.code} ${point.kind} ${point.index}`, { device, point }] as const),
    ),
  );
  const rows = outbound.mappings.flatMap(({ device, kind, index, target }) => {
    const found = points.get(`${device} ${kind} ${index}`);
    if (found === undefined) return [];
    const { point } = found;
    const { gain, offset } = target.value === 'raw' ? scalingOf(point) : { gain: 1, offset: 0 };
    const numeric = isScaled(target.kind);
    return [
      [
        KIND_WORDS[target.kind].one,
        String(target.index),
        `${device} ${point.name}`,
        point.unit,
        numeric ? (target.value === 'raw' ? 'raw' : 'in units') : '',
        numeric ? String(gain) : '',
        numeric ? String(offset) : '',
        point.states?.join(' / ') ?? '',
        target.eventClass === 0 ? 'none' : String(target.eventClass),
        objectWords(target.kind, 'static', target.staticVariation),
        target.eventClass > 0 ? objectWords(target.kind, 'event', target.eventVariation) : '',
        isControl(target.kind) ? 'status to the centre, control from it' : 'to the centre',
        `${device} ${addressWords(kind, index)}`,
      ],
    ];
  });
  return [[...SHEET_HEADING], ...rows];
}
