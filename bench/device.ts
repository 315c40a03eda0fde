import {
  DEFAULT_VARIATIONS,
  Flag,
  Outstation,
  outstationSettings,
  type ControlItem,
  type OutstationCommand,
  type OutstationEffect,
} from '@halvix/core/dnp3';
import type { PointKind } from '@halvix/core/point';
import { clock, Driver, TcpListener } from '@halvix/wire';
import { FeederRelay } from './relay.ts';
import { USUAL_CLASS } from '@halvix/core/mapping';
import { FEEDER_RELAY } from './scenario/feederrelay.ts';

export interface RelaySettings {
  code: string;
  name: string;
  station: string;
  host: string;
  port: number;
  address: number;
  masterAddress: number;
}

export interface PointReport {
  kind: PointKind;
  index: number;
  name: string;
  value: number;
  flags: number;
  time: number;
}

/** An event as the device made it, in the order of making. */
export interface LoggedEvent {
  number: number;
  kind: PointKind;
  index: number;
  value: number;
  flags: number;
  time: number;
}

const TICK_MS = 250;
const STORM_TICK_MS = 10;
const MAX_LOG = 500_000;
const MAX_HEARD = 10_000;
const REMOTE_SWITCH = 6;
const STORM_POINTS: { kind: PointKind; index: number }[] = [
  ...[19, 20, 21, 22, 23, 24, 26].map((index) => ({ kind: 'binary' as const, index })),
  ...[19, 20, 21, 22, 23, 24, 25, 26, 27].map((index) => ({ kind: 'analog' as const, index })),
];

const keyOf = (kind: PointKind, index: number): string => `${kind} ${index}`;

/** The simulated relay on its port: a DNP3 outstation over the living model, with a switch for each point. */
export class SimulatedRelay {
  private model = new FeederRelay(clock.now(), Math.random);
  private outstation: Outstation;
  private driver: Driver<OutstationCommand, OutstationEffect>;
  private readonly listener: TcpListener;
  private readonly forced = new Map<string, number>();
  private readonly stormed = new Map<string, number>();
  readonly log: LoggedEvent[] = [];
  private clockOffsetMs = 0;
  private timers: NodeJS.Timeout[] = [];
  private storm: { timer: NodeJS.Timeout; began: number; perSecond: number; made: number } | null = null;
  on = false;
  /** When something valid came from the master, newest last. */
  readonly heardAt: number[] = [];
  /** Operations carried out since start: for proof that a control happened once. */
  operations = 0;

  constructor(readonly settings: RelaySettings) {
    ({ outstation: this.outstation, driver: this.driver } = this.build());
    this.listener = new TcpListener(
      { ...settings, quietMs: 5000 },
      {
        up: () => this.driver.start(),
        down: () => this.driver.stop(),
        data: (bytes) => this.driver.receive(bytes),
        refused: () => {},
        changed: () => {},
      },
    );
  }

  get problem(): string | null {
    return this.listener.problem;
  }

  private build(): { outstation: Outstation; driver: Driver<OutstationCommand, OutstationEffect> } {
    const { address, masterAddress } = this.settings;
    const points = FEEDER_RELAY.map(({ kind, index, deadband }) => ({
      kind,
      index,
      class: USUAL_CLASS[kind],
      staticVariation: DEFAULT_VARIATIONS[kind].static,
      eventVariation: DEFAULT_VARIATIONS[kind].event,
      deadband,
    }));
    const settings = outstationSettings.parse({
      ourAddress: address,
      theirAddress: masterAddress,
      takesTime: true,
      eventsPerClass: 50_000,
      attributes: {
        242: '1.4.0',
        245: this.settings.station,
        247: this.settings.code,
        248: `B-${address}`,
        250: 'Feeder relay, simulated',
        252: 'The bench',
      },
    });
    const outstation = new Outstation(settings, points, clock.now());
    return { outstation, driver: new Driver(outstation, (effect) => this.onEffect(effect)) };
  }

  /** Switches the relay on or off. What it had not delivered is gone with the power, as its clock is. */
  async power(on: boolean): Promise<void> {
    if (on === this.on) return;
    this.on = on;
    if (on) {
      ({ outstation: this.outstation, driver: this.driver } = this.build());
      this.model.clockSynchronised = false;
      this.publish(true);
      this.timers = [setInterval(() => this.tick(), TICK_MS)];
      this.listener.open();
    } else {
      this.timers.forEach(clearInterval);
      this.setStorm(0);
      await this.listener.close();
      this.driver.close();
    }
  }

  private deviceTime(): number {
    return clock.now() + this.clockOffsetMs;
  }

  private tick(): void {
    this.model.tick(clock.now());
    this.publish(false);
  }

  private valueOf(kind: PointKind, index: number): number {
    const key = keyOf(kind, index);
    return this.forced.get(key) ?? this.stormed.get(key) ?? this.model.value(kind, index) ?? 0;
  }

  private publish(quiet: boolean): void {
    const time = this.deviceTime();
    const updates = FEEDER_RELAY.map(({ kind, index }) => {
      const forced = this.forced.has(keyOf(kind, index));
      return {
        kind,
        index,
        value: this.valueOf(kind, index),
        flags: Flag.online | (forced ? Flag.localForced : 0),
        time,
        exact: forced,
      };
    });
    this.driver.command({ type: 'update', updates, quiet });
    this.driver.command({ type: 'setLocal', local: this.isLocal() });
  }

  private isLocal(): boolean {
    return this.valueOf('binary', REMOTE_SWITCH) === 0;
  }

  hasPoint(kind: PointKind, index: number): boolean {
    return this.outstation.point(kind, index) !== undefined;
  }

  force(kind: PointKind, index: number, value: number): void {
    this.forced.set(keyOf(kind, index), value);
    if (this.on) this.publish(false);
  }

  release(kind: PointKind, index: number): void {
    this.forced.delete(keyOf(kind, index));
    if (this.on) this.publish(false);
  }

  points(): PointReport[] {
    return FEEDER_RELAY.flatMap(({ kind, index, name }) => {
      const state = this.outstation.point(kind, index);
      return state ? [{ kind, index, name, value: state.value, flags: state.flags, time: state.time }] : [];
    });
  }

  /** Makes so many events a second on points of its own choice; 0 ends it. */
  setStorm(perSecond: number): void {
    if (this.storm !== null) clearInterval(this.storm.timer);
    this.storm = null;
    if (perSecond === 0) this.stormed.clear();
    else {
      const timer = setInterval(() => this.stormTick(), STORM_TICK_MS);
      this.storm = { timer, began: clock.now(), perSecond, made: 0 };
    }
  }

  private stormTick(): void {
    const { storm } = this;
    if (storm === null) return;
    const owed = Math.floor(((clock.now() - storm.began) * storm.perSecond) / 1000) - storm.made;
    const time = this.deviceTime();
    for (let i = 0; i < Math.min(owed, STORM_POINTS.length); i++) {
      const { kind, index } = STORM_POINTS[storm.made++ % STORM_POINTS.length];
      const before = this.stormed.get(keyOf(kind, index)) ?? this.valueOf(kind, index);
      const value = kind === 'binary' ? 1 - before : (before + 100) % 30_000;
      this.stormed.set(keyOf(kind, index), value);
      this.driver.command({ type: 'update', updates: [{ kind, index, value, flags: Flag.online, time, exact: true }] });
    }
  }

  private onEffect(effect: OutstationEffect): void {
    switch (effect.type) {
      case 'send':
        this.listener.send(effect.octets);
        break;
      case 'event':
        this.remember(effect.event);
        break;
      case 'control':
        this.onControl(effect.token, effect.phase, effect.items);
        break;
      case 'timeWritten':
        this.clockOffsetMs = effect.time - clock.now();
        this.model.clockSynchronised = true;
        break;
      case 'heard':
        this.heardAt.push(clock.now());
        if (this.heardAt.length > MAX_HEARD) this.heardAt.splice(0, MAX_HEARD / 10);
        this.listener.heard();
        break;
      case 'reported':
      case 'delivered':
      case 'integrityAnswered':
      case 'countersCleared':
      case 'restartAsked':
      case 'diagnostic':
        break;
      default:
        effect satisfies never;
    }
  }

  private remember({ kind, index, value, flags, time }: Omit<LoggedEvent, 'number'>): void {
    const number = (this.log.at(-1)?.number ?? 0) + 1;
    this.log.push({ number, kind, index, value, flags, time });
    if (this.log.length > MAX_LOG) this.log.splice(0, MAX_LOG / 10);
  }

  private onControl(token: number, phase: 'select' | 'operate' | 'direct', items: ControlItem[]): void {
    const now = clock.now();
    const execute = phase !== 'select';
    const statuses = items.map(({ index, block }) => {
      const status = this.model.operate(index, block, this.isLocal(), now, execute);
      if (execute && status === 0) this.operations++;
      return status;
    });
    this.driver.command({ type: 'controlResult', token, statuses });
    const { nextMove } = this.model;
    if (nextMove !== null) setTimeout(() => this.on && this.tick(), Math.max(0, nextMove - now) + 1);
  }
}
