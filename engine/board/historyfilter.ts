import type { DeviceConfig, PointConfig } from '@halvix/core/config';
import type { Reading } from '@halvix/core/point';
import type { LivePoint } from './exchange.ts';

const NONE: readonly PointConfig[] = [];
type Kept = Pick<Reading, 'quality' | 'time'>;

/** Which of a device's readings history keeps, point by point, as its list says. A change of quality is always kept. */
export class HistoryFilter {
  private readonly last = new Map<number, Kept>();
  private readonly followers = new Map<string, PointConfig[]>();
  private readonly triggers = new Map<string, number>();

  constructor(points: DeviceConfig['points']) {
    for (const point of points) {
      if (point.history.mode !== 'trigger') continue;
      const trigger = point.history.point;
      this.followers.set(trigger, [...(this.followers.get(trigger) ?? []), point]);
    }
  }

  /** Whether any point is kept because another one rises. */
  get hasFollowers(): boolean {
    return this.followers.size > 0;
  }

  /** `moved`: as the exchange found it. */
  wants({ id, config }: LivePoint, { quality, time }: Reading, moved: boolean): boolean {
    const { history } = config;
    if (history.mode === 'every') return true;
    if (history.mode === 'deadband') return moved;
    const last = this.last.get(id);
    const keep = (): true => {
      this.last.set(id, { quality, time });
      return true;
    };
    if (last === undefined || last.quality !== quality) return keep();
    switch (history.mode) {
      case 'interval':
        return time - last.time >= history.everyMs && keep();
      case 'trigger':
        return false;
      default:
        return history satisfies never;
    }
  }

  /** The points whose value is to be kept because this one has just risen. */
  triggeredBy({ address: key }: LivePoint, { raw }: Reading): readonly PointConfig[] {
    if (this.followers.size === 0) return NONE;
    const followers = this.followers.get(key);
    if (followers === undefined) return NONE;
    const before = this.triggers.get(key);
    this.triggers.set(key, raw);
    return before !== undefined && raw > before ? followers : NONE;
  }
}
