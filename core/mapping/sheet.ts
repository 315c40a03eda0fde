import type { Configuration, OutboundConfig } from '../config/index.ts';
import { addressOf, targetsOf } from '../protocols/index.ts';
import { isControl, isScaled, scalingOf } from '../point/index.ts';

/** The map of one outbound for the people at the other end: a heading, then a row a point, in the order of their addresses. */
export function mapSheet(outbound: OutboundConfig, devices: Configuration['devices']): string[][] {
  const points = new Map(
    devices.flatMap((device) =>
      device.points.map((point) => [`${device.code} ${addressOf(point)}`, { device, point }] as const),
    ),
  );
  const { sheet } = targetsOf(outbound.protocol);
  const rows = outbound.mappings.flatMap(({ device, point: address, target }) => {
    const found = points.get(`${device} ${address}`);
    if (found === undefined) return [];
    const { point } = found;
    const { gain, offset } = target.value === 'raw' ? scalingOf(point) : { gain: 1, offset: 0 };
    const numeric = isScaled(target.kind);
    const own = sheet.map(({ text }) => text(target));
    return [
      [
        ...own.slice(0, OWN_FIRST),
        `${device} ${point.name}`,
        point.unit,
        numeric ? (target.value === 'raw' ? 'raw' : 'in units') : '',
        numeric ? String(gain) : '',
        numeric ? String(offset) : '',
        point.states?.join(' / ') ?? '',
        ...own.slice(OWN_FIRST),
        isControl(target.kind) && outbound.controls && target.mayControl
          ? 'status to the centre, control from it'
          : 'to the centre',
        `${device} ${address}`,
      ],
    ];
  });
  const titles = sheet.map(({ title }) => title);
  const common = ['Name', 'Unit', 'Value', 'Gain', 'Offset', 'States'];
  return [[...titles.slice(0, OWN_FIRST), ...common, ...titles.slice(OWN_FIRST), 'Direction', 'Source'], ...rows];
}

/** Kind and address stand before the name; what else the protocol says, behind. */
const OWN_FIRST = 2;
