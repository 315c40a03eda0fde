import type { Instant } from '../../../session/index.ts';
import type { Data } from '../../mms/wire/data.ts';
import { nameWords, type ObjectName } from '../../mms/wire/names.ts';
import type { ServerPoint, ServerUpdate, UpdateManner } from '../../server.ts';
import { printAt, type TaseTargetAt } from '../points.ts';
import { flagsOf } from '../quality.ts';
import { encode, isControl } from '../types.ts';

/** A point of an agreement with its present value. */
export interface Held {
  point: ServerPoint<TaseTargetAt>;
  address: string;
  name: ObjectName;
  value: number;
  quality: number;
  /** As it was told last. */
  toldQuality: number;
  time: Instant;
  timeIsValid: boolean;
  changes: number;
  told: number;
  event: number | null;
}

/** The points of an agreement, by their addresses and by their names. */
export class HeldPoints {
  private known = new Map<string, Held>();
  private byName = new Map<string, Held>();
  private events = 0;

  constructor(private readonly domain: string) {}

  /** Takes over another list; points that stay keep their value. */
  adopt(points: readonly ServerPoint<TaseTargetAt>[]): void {
    const before = this.known;
    this.known = new Map();
    this.byName = new Map();
    for (const point of points) {
      const address = printAt(point.at);
      const { scope, name: item } = point.at;
      const name: ObjectName =
        scope === 'centre' ? { scope: 'vmd', item } : { scope: 'domain', domain: this.domain, item };
      const fresh = {
        value: 0,
        quality: 0,
        toldQuality: 0,
        time: 0,
        timeIsValid: false,
        changes: 0,
        told: NaN,
        event: null,
      };
      const held: Held = { ...fresh, ...before.get(address), point, address, name };
      this.known.set(address, held);
      this.byName.set(nameWords(name), held);
    }
  }

  at(address: string): Held | undefined {
    return this.known.get(address);
  }
  named(name: ObjectName): Held | undefined {
    return this.byName.get(nameWords(name));
  }
  all(): Iterable<Held> {
    return this.byName.values();
  }

  /** Takes a value. Returns the point when its peer is to be told of it. */
  update(update: ServerUpdate<TaseTargetAt>, manner: UpdateManner): Held | null {
    const held = this.known.get(printAt(update.at));
    if (held === undefined || isControl(held.point.at.type)) return null;
    const { deadband } = held.point;
    const { value, quality } = update;
    const hasMoved =
      update.always === true ||
      update.moved === true ||
      Number.isNaN(held.told) ||
      (deadband === 0 ? value !== held.told : Math.abs(value - held.told) >= deadband);
    const tells = hasMoved || quality !== held.toldQuality;
    [held.value, held.quality] = [value, quality];
    [held.time, held.timeIsValid] = [update.time, !update.unsynchronised];
    if (manner === 'shown') return null;
    held.toldQuality = quality;
    if (!tells) return null;
    if (hasMoved) {
      held.told = value;
      held.changes++;
    }
    if (manner === 'quiet') return null;
    held.event = ++this.events;
    return held;
  }
}

export function dataOf({ point, value, quality, time, timeIsValid, changes }: Held): Data {
  const { type } = point.at;
  if (isControl(type)) return { type: 'integer', value: 0 };
  // Of one bit: on is 2, off is 1.
  const state = point.kind === 'binary' ? (value === 0 ? 1 : 2) : value;
  const flags = flagsOf(quality, timeIsValid);
  return encode(type, { value: type.startsWith('State') ? state : value, flags, time, changes });
}
