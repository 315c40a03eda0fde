import type { MappingConfig, OutboundConfig } from '@halvix/core/config';
import type { Trail } from '@halvix/core/path';
import { addressOf, type ServerPoint, type ServerUpdate, type TargetPointAt } from '@halvix/core/protocols';
import {
  converted,
  deadbandInCounts,
  hasStates,
  type PointKind,
  type Reading,
  type TimeSource,
} from '@halvix/core/point';
import { clock } from '@halvix/wire';
import type { Exchange, LivePoint } from '../board/exchange.ts';

/** What became of a point's latest change towards an outbound. */
interface Delivery {
  /** What it is there. */
  kind: PointKind;
  object: string;
  value: number;
  quality: number;
  eventNumber: number | null;
  offered: number;
  reported: number | null;
  confirmed: number | null;
}

/** Where a point is mapped to. */
export interface Target {
  mapping: MappingConfig;
  /** Of the centre, in what it is handed. */
  deadband: number;
  delivery: Delivery | null;
}

type EventOf = { address: string; number: number };

/** The mappings of an outbound, by either end: what a reading is there, and what became of it. */
export class Targets {
  /** By the number of the point that they come from; lists that change are adopted. */
  private bySource = new Map<number, Target[]>();
  private byTarget = new Map<string, Target>();

  constructor(
    private readonly exchange: Exchange,
    private config: OutboundConfig,
  ) {
    this.adopt(config);
  }

  /** Goes on with other mappings or point lists; what is known of a target that stays is kept. */
  adopt(config: OutboundConfig): void {
    this.config = config;
    const before = this.byTarget;
    this.bySource = new Map();
    this.byTarget = new Map();
    for (const mapping of config.mappings) {
      const key = addressOf(mapping.target);
      const known = before.get(key);
      const delivery = known && sourceKey(known.mapping) === sourceKey(mapping) ? known.delivery : null;
      const target: Target = { mapping, delivery, deadband: this.deadbandOf(mapping) };
      const source = this.exchange.at(mapping.device, mapping.point)?.id;
      const others = source === undefined ? undefined : this.bySource.get(source);
      if (others) others.push(target);
      else if (source !== undefined) this.bySource.set(source, [target]);
      this.byTarget.set(key, target);
    }
  }

  /** What the session has for its centre. */
  offered(): ServerPoint<TargetPointAt>[] {
    return this.config.mappings.map((mapping) => {
      const { kind, at, value } = mapping.target;
      const point = this.exchange.at(mapping.device, mapping.point);
      const { name = '', unit = '' } = point?.config ?? {};
      const mayOperate = this.config.controls && mapping.target.mayControl;
      return {
        kind,
        at,
        deadband: this.deadbandOf(mapping),
        name,
        // Counts have no unit.
        unit: value === 'engineering' ? unit : '',
        mayOperate,
      };
    });
  }

  private deadbandOf({ device, point: address, target }: MappingConfig): number {
    if (target.deadband !== null) return target.deadband;
    const point = this.exchange.at(device, address);
    if (point === undefined) return 0;
    return target.value === 'raw' ? deadbandInCounts(point.config.deadband, point.config) : point.deadband;
  }

  of({ id }: LivePoint): readonly Target[] {
    return this.bySource.get(id) ?? NO_TARGETS;
  }

  at(address: string): Target | undefined {
    return this.byTarget.get(address);
  }

  /** The points that are mapped and in the lists, by the order of the mappings. */
  sources(): LivePoint[] {
    return this.config.mappings.flatMap(({ device, point }) => this.exchange.at(device, point) ?? []);
  }

  /** What the centre's session is told of a reading, as `object`; what becomes of it is noted from then on. */
  update(
    target: Target,
    { config }: LivePoint,
    reading: Reading,
    hasMoved: boolean,
    object: string,
  ): ServerUpdate<TargetPointAt> {
    const now = clock.now();
    const spoken = this.past(target, config, reading);
    const { kind, value, quality } = spoken;
    const { deadband } = target.mapping.target;
    target.delivery = {
      kind,
      object,
      value,
      quality,
      eventNumber: null,
      offered: now,
      reported: null,
      confirmed: null,
    };
    const time = reading.cause === 'engine' ? now : reading.time;
    // What the device reports as an event is one for the centre, also when it is back where it was.
    const always = reading.cause === 'event' && (hasStates(kind) || target.deadband === 0);
    // With the point's own deadband the centre is told when everybody else is.
    const moved = hasMoved && deadband === null;
    return Object.assign(spoken, { time, always, moved });
  }

  /** What the centre's session is told of a reading that was; nothing of it is noted. */
  past(
    { mapping }: Target,
    config: LivePoint['config'],
    reading: Pick<Reading, 'raw' | 'text' | 'quality' | 'time' | 'timeSource'>,
  ): ServerUpdate<TargetPointAt> {
    const { kind, at, value: which } = mapping.target;
    const { value, quality } = converted(config.kind, kind, reading.raw, reading.quality, config, which);
    const unsynchronised = UNSYNCHRONISED.has(reading.timeSource);
    const text = reading.text === undefined ? {} : { text: reading.text };
    return { kind, at, value, ...text, quality, time: reading.time, unsynchronised };
  }

  // ---- what became of it

  /** It has become an event of the session. */
  event({ address, number, form }: EventOf & { form: string }): void {
    const target = this.byTarget.get(address);
    if (!target?.delivery) return;
    target.delivery.eventNumber = number;
    target.delivery.object = form;
  }

  /** These events have gone out. */
  reported(events: readonly EventOf[]): void {
    this.mark(events, 'reported');
  }

  /** The centre has them. */
  confirmed(events: readonly EventOf[]): void {
    this.mark(events, 'confirmed');
  }

  private mark(events: readonly EventOf[], what: 'reported' | 'confirmed'): void {
    const now = clock.now();
    for (const { address, number } of events) {
      const target = this.byTarget.get(address);
      if (target?.delivery?.eventNumber !== number) continue;
      target.delivery[what] = now;
      this.touchSource(target);
    }
  }

  /** A client has read these as they are now: there is nothing to be confirmed. */
  read(addresses: readonly string[]): void {
    const now = clock.now();
    for (const address of addresses) {
      const target = this.byTarget.get(address);
      if (target?.delivery == null) continue;
      target.delivery.reported = target.delivery.confirmed = now;
      this.touchSource(target);
    }
  }

  /** The centre has read all present values: those that made no event have reached it that way. */
  integrityRead(): void {
    const now = clock.now();
    for (const target of this.byTarget.values()) {
      if (target.delivery === null || target.delivery.eventNumber !== null || target.delivery.reported !== null)
        continue;
      target.delivery.reported = now;
      this.touchSource(target);
    }
  }

  private touchSource({ mapping }: Target): void {
    const point = this.exchange.at(mapping.device, mapping.point);
    if (point !== undefined) this.exchange.touch(point.id);
  }

  /** What became of a point's latest change, for its trail; `said`: the session's words for a quality. */
  deliveriesOf(
    point: LivePoint,
    said: (kind: PointKind, quality: number) => string,
  ): Omit<Trail['outbounds'][number], 'code'>[] {
    return this.of(point).flatMap(({ delivery }) => {
      if (delivery === null) return [];
      const { quality, ...rest } = delivery;
      return [{ ...rest, said: said(delivery.kind, quality) }];
    });
  }
}

/** Whose times are of a clock that is not set, or was just set. */
const UNSYNCHRONISED: ReadonlySet<TimeSource> = new Set(['deviceUnsynchronised', 'deviceDoubtful', 'receiptDoubtful']);

const NO_TARGETS: readonly Target[] = [];

const sourceKey = ({ device, point }: MappingConfig): string => `${device} ${point}`;
