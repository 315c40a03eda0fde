import type { MappingConfig, OutboundConfig, PointConfig } from '@halvix/core/config';
import {
  ControlStatus,
  converted,
  flagsFromQuality,
  flagWords,
  objectWords,
  type BufferedEvent,
  Outstation,
  type ControlItem,
  type OutstationCommand,
  type OutstationEffect,
  type OutstationPoint,
  type PointUpdate,
  type Setpoint,
} from '@halvix/core/protocols/dnp3';
import type { OutboundState, Trail } from '@halvix/core/path';
import { addressOf } from '@halvix/core/protocols';
import {
  addressWords,
  deadbandInCounts,
  deadbandInUnits,
  hasStates,
  Quality,
  rawValue,
  scaledValue,
  type PointKind,
  type Reading,
} from '@halvix/core/point';
import { clock, Driver } from '@halvix/wire';
import type { CentreControl, GivenCommand } from './controls.ts';
import type { Change, Exchange, LivePoint } from './exchange.ts';
import type { Journal } from './journal.ts';
import type { OutboundPort, PortMember } from './outboundport.ts';

export interface OutboundContext {
  exchange: Exchange;
  journal: Journal;
  /** Carries a control out at its device; resolves with the status for the centre, and never rejects. */
  control: (control: CentreControl) => Promise<number>;
  changed: () => void;
}

/** What became of a point's latest change towards this outbound. */
interface Delivery {
  /** What it is there. */
  kind: PointKind;
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
  /** Of the centre, in what it is handed. */
  deadband: number;
  delivery: Delivery | null;
}

/** One outbound: our outstation for one centre, fed from the exchange through the mapping. */
export class OutboundRunner {
  private readonly outstation: Outstation;
  private readonly driver: Driver<OutstationCommand, OutstationEffect>;
  private readonly member: PortMember;
  private bySource = new Map<string, Target[]>();
  private byTarget = new Map<string, Target>();
  private stopListening: () => void = () => {};
  private since = clock.now();
  private connectedFrom: string | null = null;
  private connectionSince: number | null = null;
  private lastHeard: number | null = null;
  private lastConfirmed: number | null = null;
  private refused = 0;
  private lastProblem: OutboundState['lastProblem'] = null;

  constructor(
    public config: OutboundConfig,
    private readonly port: OutboundPort,
    private readonly context: OutboundContext,
  ) {
    this.indexMappings();
    this.outstation = new Outstation(config.settings, this.outstationPoints(), clock.now());
    this.driver = new Driver(this.outstation, (effect) => this.onEffect(effect));
    this.member = {
      config,
      up: (from) => this.onUp(from),
      down: () => this.onDown(),
      data: (bytes) => this.driver.receive(bytes),
      refused: (words) => {
        this.refused++;
        this.problem(words);
      },
      changed: () => this.onListening(),
    };
  }

  /** Finds the mappings by either end; what is known of a target that stays is kept. */
  private indexMappings(): void {
    const before = this.byTarget;
    this.bySource = new Map();
    this.byTarget = new Map();
    for (const mapping of this.config.mappings) {
      const key = addressOf(mapping.target);
      const known = before.get(key);
      const delivery = known && sourceKey(known.mapping) === sourceKey(mapping) ? known.delivery : null;
      const target: Target = { mapping, delivery, deadband: this.deadbandOf(mapping) };
      const source = sourceKey(mapping);
      this.bySource.set(source, [...(this.bySource.get(source) ?? []), target]);
      this.byTarget.set(key, target);
    }
  }

  private outstationPoints(): OutstationPoint[] {
    return this.config.mappings.map((mapping) => {
      const { target } = mapping;
      return {
        kind: target.kind,
        index: target.at.index,
        class: target.at.eventClass,
        commandClass: this.config.settings.commandClass,
        staticVariation: target.at.staticVariation,
        eventVariation: target.at.eventVariation,
        deadband: this.deadbandOf(mapping),
      };
    });
  }

  private deadbandOf({ device, point: address, target }: MappingConfig): number {
    const point = this.context.exchange.at(device, address)?.config;
    return target.deadband ?? (point === undefined ? 0 : this.ownDeadband(point, target.value));
  }

  private ownDeadband(point: PointConfig, value: 'raw' | 'engineering'): number {
    return value === 'raw' ? deadbandInCounts(point.deadband, point) : (deadbandInUnits(point.deadband, point) ?? 0);
  }

  /**
   * Goes on with other mappings or point lists: the centre's connection and its waiting events stay. What is mapped
   * anew is told as an event.
   */
  adopt(config: OutboundConfig, touched: ReadonlySet<string>): void {
    const before = new Set(this.config.mappings.map((mapping) => JSON.stringify(mapping)));
    this.config = config;
    this.member.config = config;
    this.indexMappings();
    this.driver.command({ type: 'setPoints', points: this.outstationPoints() });
    const updates: PointUpdate[] = [];
    for (const mapping of config.mappings) {
      if (!touched.has(mapping.device) && before.has(JSON.stringify(mapping))) continue;
      const point = this.context.exchange.at(mapping.device, mapping.point);
      const target = this.byTarget.get(addressOf(mapping.target));
      if (target === undefined) continue;
      updates.push(
        point?.reading && point.passOn ? this.updateOf(target, point, point.reading) : this.withheld(target),
      );
    }
    this.update(updates);
  }

  /** The source is not to be seen: the last value stays there, and says that it is not on line. */
  private withheld({ mapping: { target } }: Target): PointUpdate {
    const { kind } = target;
    const { index } = target.at;
    const { value, text } = this.outstation.point(kind, index) ?? { value: 0, text: '' };
    const flags = flagsFromQuality(kind, Quality.outOfService);
    return { kind, index, value, text, flags, time: clock.now() };
  }

  start(): void {
    this.pass(
      [...this.sources()].flatMap((point) => (point.reading ? [{ point, reading: point.reading }] : [])),
      true,
    );
    this.stopListening = this.context.exchange.listen((changes) => this.pass(changes, false));
    this.port.add(this.member);
  }

  stop(): void {
    this.stopListening();
    this.port.remove(this.member);
    this.driver.close();
  }

  /** What of its state people act on. */
  essence(): string {
    return [this.port.problem, this.since, this.connectedFrom, this.lastProblem?.time].join(' ');
  }

  state(): OutboundState {
    return {
      state: this.port.problem === null ? 'listening' : 'failed',
      since: this.since,
      problem: this.port.problem,
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

  /** What became of a point's latest change, for its trail. */
  deliveriesOf(point: LivePoint): Omit<Trail['outbounds'][number], 'code'>[] {
    return this.targetsOf(point).flatMap(({ delivery }) => {
      if (delivery === null) return [];
      const { flags, ...rest } = delivery;
      return [{ ...rest, said: flagWords(delivery.kind, flags) }];
    });
  }

  private targetsOf({ device, address }: LivePoint): Target[] {
    return this.bySource.get(`${device} ${address}`) ?? [];
  }

  private *sources(): Generator<LivePoint> {
    for (const { device, point: address } of this.config.mappings) {
      const point = this.context.exchange.at(device, address);
      if (point !== undefined) yield point;
    }
  }

  /** Hands readings on to where they are mapped to, in one piece. */
  private pass(changes: readonly Change[], quiet: boolean): void {
    const updates: PointUpdate[] = [];
    for (const { point, reading } of changes)
      if (point.passOn) for (const target of this.targetsOf(point)) updates.push(this.updateOf(target, point, reading));
    this.update(updates, quiet);
  }

  private update(updates: PointUpdate[], quiet = false): void {
    if (updates.length > 0) this.driver.command({ type: 'update', updates, quiet });
  }

  /** What the outstation is told of a reading; notes what becomes of it. */
  private updateOf(target: Target, { config }: LivePoint, reading: Reading): PointUpdate {
    const { kind, value: which } = target.mapping.target;
    const { index, staticVariation } = target.mapping.target.at;
    const now = clock.now();
    const { value, quality } = converted(config.kind, kind, reading.raw, reading.quality, config, which);
    const text = reading.text === undefined ? {} : { text: reading.text };
    const flags = flagsFromQuality(kind, quality);
    target.delivery = {
      kind,
      object: `${objectWords(kind, 'static', staticVariation)} i${index}`,
      value,
      flags,
      eventNumber: null,
      offered: now,
      reported: null,
      confirmed: null,
    };
    const time = reading.cause === 'engine' ? now : reading.time;
    // What the device reports as an event is one for the centre, also when it is back where it was.
    const always = reading.cause === 'event' && (hasStates(kind) || target.deadband === 0);
    return { kind, index, value, ...text, flags, time, always };
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
    if (this.port.problem !== null)
      this.problem(`cannot listen on ${this.config.host}:${this.config.port}: ${this.port.problem}`);
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
        this.port.send(this.member, effect.octets);
        break;
      case 'heard':
        this.lastHeard = clock.now();
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
      case 'countersCleared':
      case 'fileDeleted':
      case 'restartAsked':
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

  private onEvent({ kind, index, number, variation, status }: BufferedEvent): void {
    if (status !== undefined) return;
    const target = this.byTarget.get(addressWords(kind, index));
    if (!target?.delivery) return;
    target.delivery.eventNumber = number;
    target.delivery.object = `${objectWords(kind, 'event', variation)} i${index}`;
  }

  private mark(
    events: readonly { kind: PointKind; index: number; number: number }[],
    set: (delivery: Delivery, now: number) => void,
  ): void {
    const now = clock.now();
    for (const { kind, index, number } of events) {
      const target = this.byTarget.get(addressWords(kind, index));
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
    const point = this.context.exchange.at(mapping.device, mapping.point);
    if (point !== undefined) this.context.exchange.touch(point.id);
  }

  private async onControl(token: number, phase: CentreControl['phase'], items: ControlItem[]): Promise<void> {
    const statuses: number[] = [];
    for (const item of items) statuses.push(await this.passControl(phase, item));
    this.driver.command({ type: 'controlResult', token, statuses });
  }

  /** Tells the centre of a command that one of its points was given, where it wants to know. */
  commandGiven({ device, address, kind, value, status }: GivenCommand): void {
    const point = this.context.exchange.at(device, address);
    if (point === undefined || !point.passOn) return;
    for (const { mapping } of this.targetsOf(point)) {
      if (mapping.target.kind !== kind) continue;
      const shown =
        kind === 'setpoint' && mapping.target.value === 'engineering' ? scaledValue(value, point.config) : value;
      const given = { kind, index: mapping.target.at.index, value: shown, status, time: clock.now() };
      this.driver.command({ type: 'commandGiven', ...given });
    }
  }

  /** A centre's control at its device; the status is the device's own, or says why it did not get there. */
  private async passControl(phase: CentreControl['phase'], given: ControlItem): Promise<number> {
    const kind = given.setpoint ? 'setpoint' : 'output';
    const target = this.byTarget.get(addressWords(kind, given.index));
    // What is only shown as a setpoint or a control there is no such thing here.
    const { device, point: address } = target?.mapping ?? { device: '', point: '' };
    const point = this.context.exchange.at(device, address);
    if (target === undefined || (point !== undefined && point.config.kind !== kind)) return ControlStatus.notSupported;
    if (!this.config.controls || !target.mapping.target.mayControl) {
      this.problem(`a control of ${this.config.centre} was refused: it may not operate ${kind} ${given.index} here`);
      return ControlStatus.notAuthorized;
    }
    if (point === undefined || !point.passOn) return ControlStatus.blocked;
    const item = given.setpoint ? { ...given, setpoint: this.inCounts(given.setpoint, target, point) } : given;
    return this.context.control({ outbound: this.config.code, device, address, phase, item });
  }

  /** The centre speaks in what the mapping hands it, the device in counts. */
  private inCounts(setpoint: Setpoint, { mapping }: Target, { config }: LivePoint): Setpoint {
    if (mapping.target.value === 'raw') return setpoint;
    return { ...setpoint, value: rawValue(setpoint.value, config) };
  }
}

const sourceKey = ({ device, point }: MappingConfig): string => `${device} ${point}`;
