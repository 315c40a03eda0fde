import type { PointKind } from '@halvix/core/point';
import { clock } from '@halvix/wire';
import type { BenchLink, LinkUser } from './link.ts';
import type { Plant, PlantPoint } from './plant.ts';
import { Playing, playWords, type Play } from '@halvix/core/playing';

export interface StandInSettings {
  code: string;
  name: string;
  station: string;
}

export interface PointReport {
  kind: PointKind;
  index: number;
  name: string;
  value: number;
  text?: string;
  flags?: number;
  time?: number;
  /** How it plays, in words. */
  plays?: string;
}

/** What is wrong with the device itself. */
export interface Faults {
  /** Its clock gains or loses, millionths. */
  driftPpm: number;
  /** It answers so much later, milliseconds. */
  answerDelayMs: number;
}

/** What a stand-in with events of its own making can be made to do. */
export interface EventMaker {
  /** Its events after that number, oldest first. */
  log(after: number): readonly object[];
  /** Makes so many events a second; 0 ends it. */
  setStorm(perSecond: number): void;
  /** Makes more events than its buffer holds. */
  fill(): void;
}

const TICK_MS = 250;
const MAX_HEARD = 10_000;

/** A stand-in of a device: a plant, and the way in which it speaks for it on a link. */
export abstract class StandIn<Point extends PlantPoint = PlantPoint> implements LinkUser {
  /** How many orders were carried out: for proof that one happened once. */
  operations = 0;
  on = false;
  /** When it was asked, newest last. */
  readonly heardAt: number[] = [];
  faults: Faults = { driftPpm: 0, answerDelayMs: 0 };
  readonly events: EventMaker | null = null;
  private timers: NodeJS.Timeout[] = [];
  /** Values that change by themselves, by the keys of their points. */
  private readonly playing = new Map<string, Playing>();
  private readonly lateAnswers = new Set<NodeJS.Timeout>();
  private waking: NodeJS.Timeout | null = null;

  constructor(
    readonly settings: StandInSettings,
    readonly link: BenchLink,
    protected readonly plant: Plant<Point>,
  ) {}

  get code(): string {
    return this.settings.code;
  }

  // ---- what each speaker brings

  protected abstract readonly protocol: string;
  /** By which its peer knows it. */
  protected abstract readonly address: number | string;
  /** The number by which people and tests name a point, among those of its kind. */
  protected abstract indexOf(point: Point): number;
  abstract up(): void;
  abstract down(): void;
  abstract data(octets: Uint8Array): void;
  /** It has power again. */
  protected abstract begin(): void;
  /** The power is gone, and its link with it. */
  protected abstract end(): void;
  /** Shows its peer what the plant has now. */
  protected abstract show(): void;

  /** Switches the device on or off. */
  async power(on: boolean): Promise<void> {
    if (on === this.on) return;
    this.on = on;
    if (on) {
      this.begin();
      this.timers = [setInterval(() => this.tick(), TICK_MS)];
      await this.link.join(this);
      return;
    }
    this.timers.forEach(clearInterval);
    this.wakeAt(null, () => {});
    for (const timer of this.lateAnswers) clearTimeout(timer);
    await this.link.leave(this);
    this.end();
  }

  protected tick(): void {
    const now = clock.now();
    for (const [key, one] of this.playing) this.plant.forced.set(key, one.valueAt(now));
    this.plant.tick(now);
    this.show();
  }

  /** Whether the plant has that value of its own accord. */
  protected isOwn({ key }: Point): boolean {
    return !this.playing.has(key);
  }

  /** Its session is due then, instead of when it was; null: nothing is. */
  protected wakeAt(deadline: number | null, wake: () => void): void {
    if (this.waking !== null) clearTimeout(this.waking);
    this.waking = deadline === null || !this.on ? null : setTimeout(wake, Math.max(1, deadline - clock.now()));
  }

  /** Something is going to happen in the plant before the next tick. */
  protected tickAtMove(): void {
    const { nextMove } = this.plant;
    if (nextMove !== null) setTimeout(() => this.on && this.tick(), Math.max(0, nextMove - clock.now()) + 1);
  }

  protected heard(): void {
    this.heardAt.push(clock.now());
    if (this.heardAt.length > MAX_HEARD) this.heardAt.splice(0, MAX_HEARD / 10);
  }

  protected say(octets: Uint8Array): void {
    const { answerDelayMs } = this.faults;
    if (answerDelayMs === 0) {
      this.link.send(octets);
      return;
    }
    const timer = setTimeout(() => {
      this.lateAnswers.delete(timer);
      this.link.send(octets);
    }, answerDelayMs);
    this.lateAnswers.add(timer);
  }

  setFaults(faults: Faults): void {
    this.faults = faults;
  }

  /** Its clock is so far ahead; only of one that has a clock. */
  setClock?(offsetMs: number): void;
  /** It goes off and comes back by itself; only of one that can. */
  reboot?(): Promise<void>;
  /** Wakes one that sleeps; only of one that does. */
  wake?(): void;

  // ---- its points

  protected valueOf({ key }: Point): number | string {
    return this.plant.forced.get(key) ?? this.plant.value(key) ?? 0;
  }

  points(): PointReport[] {
    return this.plant.points.map((point) => this.pointReport(point));
  }

  protected pointReport(point: Point): PointReport {
    const value = this.valueOf(point);
    return {
      ...{ kind: point.kind, index: this.indexOf(point), name: point.name, value: Number(value) || 0 },
      ...(typeof value === 'string' ? { text: value } : {}),
      ...this.playsOf(point),
    };
  }

  protected playsOf({ key }: Point): { plays?: string } {
    const playing = this.playing.get(key);
    return playing ? { plays: playWords(playing.play) } : {};
  }

  private pointAt(kind: PointKind, index: number): Point | undefined {
    return this.plant.points.find((point) => point.kind === kind && this.indexOf(point) === index);
  }

  hasPoint(kind: PointKind, index: number): boolean {
    return this.pointAt(kind, index) !== undefined;
  }

  /** What is wrong with such a value; null: it can be forced. */
  misfit(_kind: PointKind, value: number): string | null {
    return Number.isFinite(value) ? null : 'is not a number';
  }

  /** Its value changes by itself until it is released, or forced to one. */
  play(kind: PointKind, index: number, play: Play): void {
    const point = this.pointAt(kind, index);
    if (point === undefined) return;
    this.playing.set(point.key, new Playing(play, kind, clock.now(), Math.random));
    if (this.on) this.tick();
  }

  force(kind: PointKind, index: number, value: number): void {
    const point = this.pointAt(kind, index);
    if (point === undefined) return;
    this.playing.delete(point.key);
    this.plant.forced.set(point.key, value);
    if (this.on) this.show();
  }

  release(kind: PointKind, index: number): void {
    const point = this.pointAt(kind, index);
    if (point === undefined) return;
    this.playing.delete(point.key);
    this.plant.forced.delete(point.key);
    if (this.on) this.show();
  }

  report(): object {
    const { code, name, station } = this.settings;
    const { link, protocol, address, faults, on, operations } = this;
    return {
      ...{ code, name, station, protocol, address },
      ...{ port: link.port, link: link.code, connected: link.connected, problem: link.problem },
      ...{ faults, on, operations, pulses: [], sleeps: this.wake !== undefined, hasEvents: this.events !== null },
      ...{ eventsWaiting: 0, eventsDropped: 0, clockOffsetMs: 0 },
    };
  }
}
