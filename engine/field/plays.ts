import { playObjection, Playing, playWords, type Play } from '@halvix/core/playing';
import type { DeviceConfig } from '@halvix/core/config';
import type { DeviceState } from '@halvix/core/path';
import { clock } from '@halvix/wire';
import type { Exchange } from '../board/exchange.ts';
import type { Ingest } from '../board/ingest.ts';

const TICK_MS = 250;
const MOST = 200;

interface One {
  id: string;
  playing: Playing;
  by: string;
  since: number;
  ended: (words: string | null) => void;
}

export interface PlaysContext {
  exchange: Exchange;
  ingest: Ingest;
  /** The state of the device is another one. */
  changed: () => void;
  /** A value of the device's own is wanted again, or that it says nothing. */
  refresh: () => void;
}

/** Points of one device on test whose values are made up, until somebody ends it or the device is on test no more. */
export class Plays {
  private readonly all = new Map<string, One>();
  private timer: NodeJS.Timeout | null = null;

  constructor(
    private device: DeviceConfig,
    private readonly context: PlaysContext,
  ) {}

  /** Returns why it cannot; `ended` is called once, with why: null is that somebody wanted it so. */
  begin(point: string, play: Play, one: Pick<One, 'id' | 'by' | 'ended'>): string | null {
    const objection = playObjection(this.device, point, play);
    if (objection !== null) return objection;
    if (this.all.size >= MOST) return `${MOST} points of ${this.device.code} play already`;
    const kind = this.context.exchange.at(this.device.code, point)?.config.kind ?? 'analog';
    this.all.get(point)?.ended('it plays in another way now');
    const since = clock.now();
    this.all.set(point, { ...one, since, playing: new Playing(play, kind, since, Math.random) });
    this.timer ??= setInterval(() => this.tick(), TICK_MS);
    this.tick();
    this.context.changed();
    return null;
  }

  /** By the id that it was begun with. */
  end(id: string): void {
    for (const [point, one] of this.all) if (one.id === id) this.stop(point, null);
  }

  private stop(point: string, words: string | null): void {
    const one = this.all.get(point);
    if (one === undefined) return;
    this.all.delete(point);
    if (this.all.size === 0 && this.timer !== null) {
      clearInterval(this.timer);
      this.timer = null;
    }
    const live = this.context.exchange.at(this.device.code, point);
    if (live) {
      this.context.ingest.release(live.id);
      this.context.refresh();
    }
    one.ended(words);
    this.context.changed();
  }

  stopAll(words: string): void {
    for (const point of [...this.all.keys()]) this.stop(point, words);
  }

  /** Goes on with another list. */
  adopt(device: DeviceConfig): void {
    this.device = device;
    for (const [point, { playing }] of [...this.all]) {
      const objection = playObjection(device, point, playing.play);
      if (objection !== null) this.stop(point, objection);
    }
  }

  private tick(): void {
    const { exchange, ingest } = this.context;
    const now = clock.now();
    for (const [point, { playing }] of this.all) {
      const live = exchange.at(this.device.code, point);
      if (live) ingest.play(live, playing.valueAt(now));
    }
  }

  get shown(): DeviceState['playing'] {
    return [...this.all].map(([point, { id, by, since, playing }]) => {
      return { ...{ id, point, by, since }, words: playWords(playing.play) };
    });
  }
}
