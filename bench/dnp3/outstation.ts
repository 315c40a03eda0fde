import {
  controlOperation,
  ControlStatus,
  USUAL_CLASS,
  DEFAULT_VARIATIONS,
  Flag,
  Outstation,
  outstationSettings,
  type ControlItem,
  type OutstationCommand,
  type OutstationEffect,
  type OutstationSettings,
} from '@halvix/core/protocols/dnp3';
import type { PointKind } from '@halvix/core/point';
import { clock, Driver } from '@halvix/wire';
import type { BenchLink } from '../link.ts';
import { numberedKey, type Plant, type PlantFile, type Refusal } from '../plant.ts';
import type { NumberedPoint } from '../scenario/feederrelay.ts';
import { StandIn, type EventMaker, type Faults, type PointReport, type StandInSettings } from '../standin.ts';
import { EventLog } from './eventlog.ts';
import { Sleeper } from './sleeper.ts';
import { Storm } from './storm.ts';

/** A plant whose points are numbered by kind. */
export type NumberedPlant = Plant<NumberedPoint>;

export interface OutstationStandInSettings extends StandInSettings {
  address: number;
  masterAddress: number;
  /** Events that it keeps of each class. */
  eventsPerClass?: number;
  /** Settings of its outstation beside the addresses. */
  outstation?: Partial<OutstationSettings>;
  /** It sleeps, and wakes so often to call; milliseconds. */
  wakesEveryMs?: number;
}

const REBOOT_MS = 3000;

const STATUS: Record<Refusal, number> = {
  local: ControlStatus.local,
  notSupported: ControlStatus.notSupported,
  outOfRange: ControlStatus.outOfRange,
  blocked: ControlStatus.blocked,
};

/** What a DNP3 device can have of each kind on its wire. */
const WIRE_LIMITS: Partial<Record<PointKind, [number, number]>> = {
  binary: [0, 1],
  output: [0, 1],
  analog: [-2_147_483_648, 2_147_483_647],
  counter: [0, 4_294_967_295],
  doubleBit: [0, 3],
  setpoint: [-2_147_483_648, 2_147_483_647],
  frozenCounter: [0, 4_294_967_295],
};

/** Speaks DNP3 for a plant: an outstation with events, a clock, files, and sleep where it is on batteries. */
export class OutstationStandIn extends StandIn<NumberedPoint> {
  protected readonly protocol = 'dnp3';
  protected readonly address;
  private outstation: Outstation;
  private driver: Driver<OutstationCommand, OutstationEffect>;
  private readonly log = new EventLog();
  private readonly sleeper: Sleeper | null;
  private readonly storm: Storm;
  private readonly stormed = new Map<string, number>();
  override readonly events: EventMaker;
  /** Its clock against the machine's, at an instant; it drifts from there. */
  private deviceClock = { offsetMs: 0, since: clock.now() };
  private files: readonly PlantFile[] | undefined;
  /** How often it operated, by the on-time that was ordered, ms: tells one order from another. */
  private readonly pulses = new Map<number, number>();

  constructor(
    private readonly own: OutstationStandInSettings,
    link: BenchLink,
    plant: NumberedPlant,
  ) {
    super(own, link, plant);
    this.address = own.address;
    this.sleeper = own.wakesEveryMs === undefined ? null : new Sleeper(own.wakesEveryMs, link, this.log);
    this.storm = new Storm((number) => this.makeEvent(number), plant.stormPoints.length);
    this.events = {
      log: (after) => this.log.events.filter(({ number }) => number > after),
      setStorm: (perSecond) => this.setStorm(perSecond),
      fill: () => this.fill(),
    };
    ({ outstation: this.outstation, driver: this.driver } = this.build());
    if (this.sleeper !== null) this.wake = () => this.sleeper?.wake();
  }

  override report(): object {
    const { events } = this.outstation;
    return {
      ...super.report(),
      ...{ eventsWaiting: events.size, eventsDropped: events.dropped },
      ...{ clockOffsetMs: this.clockOffsetMs, pulses: [...this.pulses] },
    };
  }

  protected indexOf({ index }: NumberedPoint): number {
    return index;
  }

  override misfit(kind: PointKind, value: number): string | null {
    const limits = WIRE_LIMITS[kind];
    const fits = limits !== undefined && Number.isInteger(value) && value >= limits[0] && value <= limits[1];
    return fits ? null : `is not a whole number from ${limits?.[0]} to ${limits?.[1]}`;
  }

  protected override pointReport(point: NumberedPoint): PointReport {
    const state = this.outstation.point(point.kind, point.index);
    const report = super.pointReport(point);
    return state ? { ...report, value: state.value, flags: state.flags, time: state.time } : report;
  }

  // ---- its link and its power

  up(): void {
    this.driver.start();
  }

  down(): void {
    this.driver.stop();
  }

  data(octets: Uint8Array): void {
    this.driver.receive(octets);
  }

  private build(): { outstation: Outstation; driver: Driver<OutstationCommand, OutstationEffect> } {
    const { address, masterAddress, station, code, eventsPerClass = 50_000 } = this.own;
    const { product, version } = this.plant;
    const points = this.plant.points.map(({ kind, index, deadband }) => ({
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
      eventsPerClass,
      restartsInMs: REBOOT_MS,
      attributes: { 242: version, 245: station, 247: code, 248: `B-${address}`, 250: product, 252: 'The bench' },
      ...this.own.outstation,
    });
    const outstation = new Outstation(settings, points, clock.now());
    return { outstation, driver: new Driver(outstation, (effect) => this.onEffect(effect)) };
  }

  protected begin(): void {
    ({ outstation: this.outstation, driver: this.driver } = this.build());
    this.plant.clockSynchronised = false;
    this.publish(true);
  }

  /** What it had not delivered is gone with the power, as its clock is. */
  protected end(): void {
    this.setStorm(0);
    this.driver.close();
    this.log.lose();
  }

  override async reboot(): Promise<void> {
    await this.power(false);
    setTimeout(() => void this.power(true), REBOOT_MS);
  }

  override setClock(offsetMs: number): void {
    this.deviceClock = { offsetMs, since: clock.now() };
  }

  override setFaults(faults: Faults): void {
    this.setClock(this.clockOffsetMs);
    super.setFaults(faults);
  }

  /** How far its clock is from the machine's. */
  private get clockOffsetMs(): number {
    const { offsetMs, since } = this.deviceClock;
    return Math.round(offsetMs + ((clock.now() - since) * this.faults.driftPpm) / 1e6);
  }

  protected override tick(): void {
    super.tick();
    this.sleeper?.tick();
  }

  // ---- its values

  protected override valueOf(point: NumberedPoint): number | string {
    const { key } = point;
    return this.plant.forced.get(key) ?? this.stormed.get(key) ?? super.valueOf(point);
  }

  protected show(): void {
    this.publish(false);
  }

  private publish(quiet: boolean): void {
    const shift = this.clockOffsetMs;
    const time = clock.now() + shift;
    const { plant } = this;
    const samples = plant.takeSamples?.();
    if (samples !== undefined && !quiet) {
      const sampled = samples.flatMap(({ key, ...sample }) => {
        const point = plant.points.find((one) => one.key === key);
        return point ? [{ kind: point.kind, index: point.index, value: sample.value, time: sample.time + shift }] : [];
      });
      const updates = sampled.map((one) => ({ ...one, flags: Flag.online, exact: true, always: true }));
      this.driver.command({ type: 'update', updates });
    }
    const updates = plant.points.flatMap((point) => {
      const { kind, index, key } = point;
      const forced = plant.forced.has(key);
      // What is sampled is told by its samples; a frozen counter by the freezing.
      if ((samples !== undefined && kind === 'analog' && !forced && !quiet) || kind === 'frozenCounter') return [];
      const value = this.valueOf(point);
      const said = typeof value === 'string' ? { value: 0, text: value } : { value };
      return [{ kind, index, ...said, flags: Flag.online | (forced ? Flag.localForced : 0), time, exact: forced }];
    });
    this.driver.command({ type: 'update', updates, quiet });
    if (plant.files !== undefined && (quiet || plant.files !== this.files)) {
      this.files = plant.files;
      this.driver.command({ type: 'setFiles', files: plant.files, rules: { mayDelete: true } });
    }
    this.driver.command({ type: 'setLocal', local: plant.isLocal });
    this.driver.command({ type: 'setClock', offsetMs: shift });
  }

  private setStorm(perSecond: number): void {
    this.storm.set(perSecond);
    if (perSecond === 0) this.stormed.clear();
  }

  /** An event of its own making: the next one of its storm points changes. */
  private makeEvent(number: number): void {
    const { plant, driver } = this;
    const { key, kind } = plant.stormPoints[number % plant.stormPoints.length];
    const point = plant.points.find((one) => one.key === key);
    if (point === undefined) return;
    const before = this.stormed.get(key) ?? Number(this.valueOf(point));
    const value = kind === 'binary' ? 1 - before : (before + 100) % 30_000;
    this.stormed.set(key, value);
    const time = clock.now() + this.clockOffsetMs;
    const update = { kind, index: point.index, value, flags: Flag.online, time, exact: true };
    driver.command({ type: 'update', updates: [update] });
  }

  private fill(): void {
    const most = this.outstation.settings.eventsPerClass;
    for (let i = 0; i < most + 10; i++) this.makeEvent(i);
    this.stormed.clear();
  }

  // ---- what its master wants

  private onEffect(effect: OutstationEffect): void {
    switch (effect.type) {
      case 'send':
        this.sleeper?.said();
        this.say(effect.octets);
        break;
      case 'event':
        this.log.add(effect.event);
        break;
      case 'control':
        this.onControl(effect.token, effect.phase, effect.items);
        break;
      case 'timeWritten':
        this.setClock(effect.time - clock.now());
        this.plant.clockSynchronised = true;
        break;
      case 'heard':
        this.heard();
        this.sleeper?.said();
        break;
      case 'countersCleared':
        this.plant.clearCounters?.(effect.indexes.map((index) => numberedKey('counter', index)));
        break;
      case 'restartAsked':
        setTimeout(() => void this.reboot(), 100);
        break;
      case 'fileDeleted':
        this.plant.deleteFile?.(effect.name);
        break;
      case 'delivered':
        this.log.delivered(effect.events);
        break;
      case 'reported':
      case 'integrityAnswered':
      case 'diagnostic':
      case 'settled':
      case 'overflowed':
        break;
      default:
        effect satisfies never;
    }
  }

  private onControl(token: number, phase: 'select' | 'operate' | 'direct', items: ControlItem[]): void {
    const execute = phase !== 'select';
    const statuses = items.map(({ index, block, setpoint, text }) => {
      // Its texts tell what was done; nobody writes them.
      if (text !== undefined) return ControlStatus.notSupported;
      const { onMs, offMs, count } = block;
      const refusal = setpoint
        ? this.operate('setpoint', index, { operation: null, counts: setpoint.value, ...NO_TIMES }, execute)
        : this.operate(
            'output',
            index,
            { operation: controlOperation(block.code), counts: null, onMs, offMs, count },
            execute,
          );
      if (refusal !== null) return STATUS[refusal];
      if (execute) this.operations++;
      if (execute && !setpoint) this.pulses.set(onMs, (this.pulses.get(onMs) ?? 0) + 1);
      return ControlStatus.success;
    });
    this.driver.command({ type: 'controlResult', token, statuses });
    this.tickAtMove();
  }

  private operate(
    kind: PointKind,
    index: number,
    order: Parameters<Plant['operate']>[1],
    execute: boolean,
  ): Refusal | null {
    return this.plant.operate(numberedKey(kind, index), order, clock.now(), execute);
  }
}

const NO_TIMES = { onMs: 0, offMs: 0, count: 1 };
