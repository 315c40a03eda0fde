import { Quality } from '../../point/index.ts';
import type { ClientPoint } from '../client.ts';
import type { Measured } from '../measured.ts';
import type { Contact, Source, SourceSide, Contacts } from '../source.ts';
import type { SupervisionAt } from './points.ts';

/*
 * Rules:
 * 1. A point tells each change once, with the time at which it came about; at the first look the state that there is.
 * 2. What nobody asks, or is not known yet, has no state: the last one stands, and is not to be used.
 */
class Supervisor implements Source {
  private readonly told = new Map<number, string>();
  private readonly values = new Map<number, number>();

  constructor(private readonly points: readonly ClientPoint<SupervisionAt>[]) {}

  look(standing: Contacts): Measured[] {
    const measured: Measured[] = [];
    for (const { id, at } of this.points) {
      const party = partyOf(at, standing);
      const quality = party === null ? Quality.offline : party.failed === null ? Quality.notSet : Quality.good;
      const raw = party?.failed == null ? (this.values.get(id) ?? 0) : Number(party.failed);
      const now = `${raw} ${quality}`;
      const before = this.told.get(id);
      if (now === before) continue;
      this.told.set(id, now);
      this.values.set(id, raw);
      measured.push({
        ...{ id, kind: 'binary', raw, quality },
        ...{ time: party?.since ?? null, timeSource: 'engine', event: before !== undefined },
      });
    }
    return measured;
  }
}

const partyOf = ({ of, code, point }: SupervisionAt, standing: Contacts): Contact | null =>
  of === 'outbound' ? standing.outbound(code) : point === '' ? standing.device(code) : standing.point(code, point);

export const source: SourceSide<SupervisionAt> = {
  make: (points) => new Supervisor(points),
  carrying: {
    words: () => 'how the conversation stands, known here',
    form: () => 'state',
    said: () => null,
    frames: () => [],
    address: () => '',
  },
};
