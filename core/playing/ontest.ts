import type { DeviceConfig } from '../config/index.ts';
import { isControl } from '../point/index.ts';
import { addressOf } from '../protocols/index.ts';
import { endsOf, type Play } from './playing.ts';

/** Why a point of ours cannot play, with the field that says so; null: it can. Values are in its unit. */
export function playObjection(device: DeviceConfig, address: string, play: Play): string | null {
  if (device.life !== 'onTest')
    return `device: ${device.code} is not on test; only of a device on test values may be made up`;
  const point = device.points.find((one) => addressOf(one) === address);
  if (point === undefined) return `point: there is no ${address} in ${device.code}`;
  if (isControl(point.kind)) return `point: ${address} is operated: it has no value to play`;
  if (point.kind === 'text') return `point: ${address} is a text: only numbers and states play`;
  const ends = endsOf(play);
  if (!ends.ok) return `csv: ${ends.problem}`;
  const most = point.kind === 'binary' ? 1 : point.kind === 'doubleBit' ? 3 : Infinity;
  const beyond = ends.value.find((value) => value < 0 || value > most);
  return most < Infinity && beyond !== undefined
    ? `value: ${beyond} is no state of ${address}, which has 0 to ${most}`
    : null;
}
