import type { MappingConfig, OutboundConfig } from '@halvix/core/config';
import {
  ControlStatus,
  flagsFromQuality,
  Outstation,
  type ControlItem,
  type OutstationCommand,
  type OutstationEffect,
} from '@halvix/core/dnp3';
import type { OutboundState } from '@halvix/core/path';
import type { PointKind, Reading } from '@halvix/core/point';
import { clock, Driver, TcpListener } from '@halvix/wire';
import type { Exchange, LivePoint } from './exchange.ts';
import type { Journal } from './journal.ts';

export interface CentreControl {
  outbound: string;
  device: string;
  index: number;
  phase: 'select' | 'operate' | 'direct';
  item: ControlItem;
}

export interface OutboundContext {
  exchange: Exchange;
  journal: Journal;
  /** Carries a control out at its device; resolves with the status for the centre, and never rejects. */
  control: (control: CentreControl) => Promise<number>;
  changed: () => void;
}

/** What became of a point's latest change towards this outbound. */
export interface Delivery {
  object: string;
  value: number;
  flags: number;
  eventNumber: number | null;
  offered: number;
  reported: number | null;
  confirmed: number | null;
}

interface Target {
  mapping: MappingConfig;
  delivery: Delivery | null;
}

const OBJECT_GROUPS: Record<PointKind, [number, number]> = {
  binary: [1, 2],
  doubleBit: [3, 4],
  output: [10, 0],
  analog: [30, 32],
  counter: [20, 22],
  setpoint: [40, 42],
};

/** One outbound: our outstation for one centre, fed from the exchange through the mapping. */
export class OutboundRunner {
  private readonly outstation: Outstation;
  private readonly driver: Driver<OutstationCommand, OutstationEffect>;
  private readonly listener: TcpListener;
  private readonly bySource = new Map<string, Target[]>();
  private readonly byTarget = new Map<string, Target>();
  private stopListening: () => void = () => {};
  private since = clock.now();
  private connectedFrom: string | null = null;
  private connectionSince: number | null = null;
  private lastHeard: number | null = null;
  private lastConfirmed: number | null = null;
  private refused = 0;
  private lastProblem: OutboundState['lastProblem'] = null;

  constructor(
    readonly config: OutboundConfig,
    private readonly context: OutboundContext,
  ) {
    for (const mapping of config.mappings) {
      const target: Target = { mapping, delivery: null };
      const source = `${mapping.device} ${mapping.kind} ${mapping.index}`;
      this.bySource.set(source, [...(this.bySource.get(source) ?? []), target]);
      this.byTarget.set(`${mapping.target.kind} ${mapping.target.index}`, target);
    }
    const points = config.mappings.map(({ target }) => ({ ...target, class: target.eventClass }));
    this.outstation = new Outstation(config.settings, points, clock.now());
    this.driver = new Driver(this.outstation, (effect) => this.onEffect(effect));
    this.listener = new TcpListener(config, {
      up: (from) => this.onUp(from),
      down: () => this.onDown(),
      data: (bytes) => this.driver.receive(bytes),
      refused: (from) => {
        this.refused++;
        this.problem(`connection from ${from} refused: ${this.connectedFrom ?? 'another'} is using this port`);
      },
      changed: () => this.onListening(),
    });
  }

  start(): void {
    for (const point of this.sources()) if (point.reading) this.pass(point, point.reading, true);
    this.stopListening = this.context.exchange.listen((point, reading) => this.pass(point, reading, false));
    this.listener.open();
  }

  async stop(): Promise<void> {
    this.stopListening();
    await this.listener.close();
    this.driver.close();
  }

  state(): OutboundState {
    return {
      state: this.listener.problem === null ? 'listening' : 'failed',
      since: this.since,
      problem: this.listener.problem,
      connectedFrom: this.connectedFrom,
      connectionSince: this.connectionSince,
      lastHeard: this.lastHeard,
      lastConfirmed: this.lastConfirmed,
      eventsWaiting: this.outstation.events.size,
      connectionsRefused: this.refused,
      lastProblem: this.lastProblem,
      counters: this.outstation.counters.values,
      countersSince: this.outstation.counters.since,
    };
  }

  resetCounters(): void {
    this.refused = 0;
    this.lastProblem = null;
    this.driver.command({ type: 'resetCounters' });
    this.context.changed();
  }

  deliveriesOf(point: LivePoint): Delivery[] {
    return this.targetsOf(point).flatMap(({ delivery }) => delivery ?? []);
  }

  private targetsOf({ device, config }: LivePoint): Target[] {
    return this.bySource.get(`${device} ${config.kind} ${config.index}`) ?? [];
  }

  private *sources(): Generator<LivePoint> {
    for (const { device, kind, index } of this.config.mappings) {
      const point = this.context.exchange.at(device, kind, index);
      if (point !== undefined) yield point;
    }
  }

  /** Hands a reading on to where it is mapped to. */
  private pass(point: LivePoint, reading: Reading, quiet: boolean): void {
    for (const target of this.targetsOf(point)) {
      const { kind, index, staticVariation } = target.mapping.target;
      const now = clock.now();
      const flags = flagsFromQuality(kind, reading.quality);
      const [group] = OBJECT_GROUPS[kind];
      target.delivery = {
        object: `g${group}v${staticVariation} i${index}`,
        value: reading.raw,
        flags,
        eventNumber: null,
        offered: now,
        reported: null,
        confirmed: null,
      };
      const time = reading.cause === 'engine' ? now : reading.time;
      this.driver.command({ type: 'update', updates: [{ kind, index, value: reading.raw, flags, time }], quiet });
    }
  }

  private onUp(from: string): void {
    this.connectedFrom = from;
    this.connectionSince = clock.now();
    this.driver.start();
    this.context.journal.note(this.config.code, 'plain', `${this.config.centre} connected from ${from}`);
    this.context.changed();
  }

  private onDown(): void {
    this.connectedFrom = null;
    this.connectionSince = clock.now();
    this.driver.stop();
    this.context.journal.note(this.config.code, 'lost', `${this.config.centre} is not connected any more`);
    this.context.changed();
  }

  private onListening(): void {
    this.since = clock.now();
    if (this.listener.problem !== null)
      this.problem(`cannot listen on ${this.config.host}:${this.config.port}: ${this.listener.problem}`);
    this.context.changed();
  }

  private problem(words: string): void {
    if (this.lastProblem?.words !== words) this.context.journal.note(this.config.code, 'warning', words);
    this.lastProblem = { time: clock.now(), words };
    this.context.changed();
  }

  private onEffect(effect: OutstationEffect): void {
    switch (effect.type) {
      case 'send':
        this.listener.send(effect.octets);
        break;
      case 'heard':
        this.lastHeard = clock.now();
        this.listener.heard();
        break;
      case 'event':
        this.onEvent(effect.event);
        break;
      case 'reported':
        this.mark(effect.events, (delivery, now) => (delivery.reported = now));
        break;
      case 'delivered':
        this.lastConfirmed = clock.now();
        this.mark(effect.events, (delivery, now) => (delivery.confirmed = now));
        break;
      case 'integrityAnswered':
        this.onIntegrity();
        break;
      case 'control':
        void this.onControl(effect.token, effect.phase, effect.items);
        break;
      case 'timeWritten':
        // This machine's clock is kept by its own time service; a centre does not set it.
        break;
      case 'diagnostic':
        this.problem(effect.words);
        break;
      default:
        effect satisfies never;
    }
  }

  private onEvent({
    kind,
    index,
    number,
    variation,
  }: {
    kind: PointKind;
    index: number;
    number: number;
    variation: number;
  }): void {
    const target = this.byTarget.get(`${kind} ${index}`);
    if (!target?.delivery) return;
    target.delivery.eventNumber = number;
    target.delivery.object = `g${OBJECT_GROUPS[kind][1]}v${variation} i${index}`;
  }

  private mark(
    events: readonly { kind: PointKind; index: number; number: number }[],
    set: (delivery: Delivery, now: number) => void,
  ): void {
    const now = clock.now();
    for (const { kind, index, number } of events) {
      const target = this.byTarget.get(`${kind} ${index}`);
      if (target?.delivery?.eventNumber !== number) continue;
      set(target.delivery, now);
      this.touchSource(target);
    }
  }

  /** The centre has read all present values: those that made no event have reached it that way. */
  private onIntegrity(): void {
    const now = clock.now();
    for (const target of this.byTarget.values()) {
      if (target.delivery === null || target.delivery.eventNumber !== null || target.delivery.reported !== null)
        continue;
      target.delivery.reported = now;
      this.touchSource(target);
    }
  }

  private touchSource({ mapping }: Target): void {
    const point = this.context.exchange.at(mapping.device, mapping.kind, mapping.index);
    if (point !== undefined) this.context.exchange.touch(point.id);
  }

  private async onControl(token: number, phase: CentreControl['phase'], items: ControlItem[]): Promise<void> {
    const statuses: number[] = [];
    for (const item of items) {
      const target = this.byTarget.get(`output ${item.index}`);
      if (target === undefined) {
        statuses.push(ControlStatus.notSupported);
        continue;
      }
      const { device, index } = target.mapping;
      statuses.push(await this.context.control({ outbound: this.config.code, device, index, phase, item }));
    }
    this.driver.command({ type: 'controlResult', token, statuses });
  }
}
