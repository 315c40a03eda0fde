import {
  ControlStatus,
  USUAL_CLASS,
  DEFAULT_VARIATIONS,
  Flag,
  Outstation,
  type BufferedEvent,
  outstationSettings,
  type ControlItem,
  type OutstationCommand,
  type OutstationEffect,
  type OutstationSettings,
} from '@halvix/core/protocols/dnp3';
import type { PointKind } from '@halvix/core/point';
import { clock, Driver } from '@halvix/wire';
import type { BenchDevice, PointReport } from './benchdevice.ts';
import type { CallingLink, ListeningLink, LinkUser } from './link.ts';
import type { DeviceModel } from './model.ts';
import { ValveLogger } from './stations.ts';

export interface DeviceSettings {
  code: string;
  name: string;
  station: string;
  /** What it says of itself. */
  product: string;
  address: number;
  masterAddress: number;
  /** Events that it keeps of each class. */
  eventsPerClass?: number;
  /** Settings of its outstation beside the addresses. */
  outstation?: Partial<OutstationSettings>;
  /** It sleeps, and wakes so often to call; milliseconds. */
  wakesEveryMs?: number;
}

/** An event as the device made it, in the order of making. */
export interface LoggedEvent {
  number: number;
  kind: PointKind;
  index: number;
  value: number;
  flags: number;
  time: number;
  /** waiting: not confirmed yet; gone: lost with the power before the master had it. */
  state: 'waiting' | 'delivered' | 'gone';
}

/** What is wrong with the device itself. */
export interface Faults {
  /** Its clock gains or loses, millionths. */
  driftPpm: number;
  /** It answers so much later, milliseconds. */
  answerDelayMs: number;
}

const TICK_MS = 250;
const STORM_TICK_MS = 10;
const MAX_LOG = 500_000;
const MAX_HEARD = 10_000;
const REBOOT_MS = 3000;
/** A device that called and has handed everything over hangs up when it is quiet, or is busy, for so long. */
const AWAKE_QUIET_MS = 1500;
const AWAKE_BUSY_MS = 6000;
/** A call lasts no longer, whatever is left. */
const LONGEST_AWAKE_MS = 30_000;
const CALL_AGAIN_MS = 5000;

const keyOf = (kind: PointKind, index: number): string => `${kind} ${index}`;

/** A simulated device on its link: a DNP3 outstation over a living model, with a switch for each point. */
export class SimulatedDevice implements LinkUser, BenchDevice {
  private outstation: Outstation;
  private driver: Driver<OutstationCommand, OutstationEffect>;
  private readonly forced = new Map<string, number>();
  private readonly stormed = new Map<string, number>();
  readonly log: LoggedEvent[] = [];
  /** Events that wait for their confirm, by their number in the event buffer. */
  private undelivered = new Map<number, LoggedEvent>();
  /** Its clock against the machine's, at an instant; it drifts from there. */
  private deviceClock = { offsetMs: 0, since: clock.now() };
  private timers: NodeJS.Timeout[] = [];
  private storm: { timer: NodeJS.Timeout; began: number; perSecond: number; made: number } | null = null;
  private lateAnswers = new Set<NodeJS.Timeout>();
  private files: DeviceModel['files'];
  private wokeAt = 0;
  /** The number of its newest event when it woke. */
  private wokeWith = 0;
  /** When it had handed over what it woke for. */
  private emptyAt: number | null = null;
  private hungUpAt = 0;
  private lastSaid = 0;
  faults: Faults = { driftPpm: 0, answerDelayMs: 0 };
  on = false;
  /** When something valid came from the master, newest last. */
  readonly heardAt: number[] = [];
  /** Operations carried out since start: for proof that a control happened once. */
  operations = 0;
  /** How often it operated, by the on-time that was ordered, ms: tells one order from another. */
  readonly pulses = new Map<number, number>();

  constructor(
    readonly settings: DeviceSettings,
    readonly link: ListeningLink | CallingLink,
    private readonly model: DeviceModel,
  ) {
    ({ outstation: this.outstation, driver: this.driver } = this.build());
  }

  get code(): string {
    return this.settings.code;
  }

  get problem(): string | null {
    return this.link.problem;
  }

  report(): object {
    const { code, name, station, address, wakesEveryMs } = this.settings;
    const { link, eventsWaiting, eventsDropped, clockOffsetMs, faults, on, operations, pulses, problem } = this;
    return {
      ...{ code, name, station, protocol: 'dnp3', address },
      ...{ port: link.port, link: link.code, connected: link.connected },
      ...{ eventsWaiting, eventsDropped, clockOffsetMs, faults, sleeps: wakesEveryMs !== undefined, hasEvents: true },
      ...{ on, operations, pulses: [...pulses], problem },
    };
  }

  // ---- its link

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
    const { address, masterAddress, station, code, product, eventsPerClass = 50_000 } = this.settings;
    const points = this.model.points.map(({ kind, index, deadband }) => ({
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
      attributes: { 242: '1.4.0', 245: station, 247: code, 248: `B-${address}`, 250: product, 252: 'The bench' },
      ...this.settings.outstation,
    });
    const outstation = new Outstation(settings, points, clock.now());
    return { outstation, driver: new Driver(outstation, (effect) => this.onEffect(effect)) };
  }

  /** Switches the device on or off. What it had not delivered is gone with the power, as its clock is. */
  async power(on: boolean): Promise<void> {
    if (on === this.on) return;
    this.on = on;
    if (on) {
      ({ outstation: this.outstation, driver: this.driver } = this.build());
      this.model.clockSynchronised = false;
      this.publish(true);
      this.timers = [setInterval(() => this.tick(), TICK_MS)];
      await this.link.join(this);
    } else {
      this.timers.forEach(clearInterval);
      this.setStorm(0);
      for (const timer of this.lateAnswers) clearTimeout(timer);
      await this.link.leave(this);
      this.driver.close();
      for (const logged of this.undelivered.values()) logged.state = 'gone';
      this.undelivered.clear();
    }
  }

  async reboot(): Promise<void> {
    await this.power(false);
    setTimeout(() => void this.power(true), REBOOT_MS);
  }

  setClock(offsetMs: number): void {
    this.deviceClock = { offsetMs, since: clock.now() };
  }

  setFaults(faults: Faults): void {
    this.setClock(this.clockOffsetMs);
    this.faults = faults;
  }

  /** How far its clock is from the machine's. */
  get clockOffsetMs(): number {
    const { offsetMs, since } = this.deviceClock;
    return Math.round(offsetMs + ((clock.now() - since) * this.faults.driftPpm) / 1e6);
  }

  get eventsWaiting(): number {
    return this.outstation.events.size;
  }

  get eventsDropped(): number {
    return this.outstation.events.dropped;
  }

  private deviceTime(): number {
    return clock.now() + this.clockOffsetMs;
  }

  private tick(): void {
    const now = clock.now();
    this.model.tick(now);
    this.publish(false);
    const { wakesEveryMs } = this.settings;
    if (wakesEveryMs === undefined) return;
    if (!this.link.connected) {
      // Nobody took the last call: again, sooner.
      const pause = this.link.problem === null ? wakesEveryMs : Math.min(CALL_AGAIN_MS, wakesEveryMs);
      if (now - Math.max(this.wokeAt, this.hungUpAt) >= pause) this.wake();
    } else {
      // New samples may come faster than a call is quiet: what it woke for is handed over all the same.
      if (this.handedOver()) this.emptyAt ??= now;
      const done = this.emptyAt !== null && now - this.emptyAt > AWAKE_QUIET_MS;
      const quiet = now - this.lastSaid > AWAKE_QUIET_MS;
      if ((done && (quiet || now - (this.emptyAt ?? now) > AWAKE_BUSY_MS)) || now - this.wokeAt > LONGEST_AWAKE_MS) {
        this.hungUpAt = now;
        this.link.cut();
      }
    }
  }

  /** What it had when it woke is delivered: at every moment something newer may wait. */
  private handedOver(): boolean {
    if (this.eventsWaiting === 0) return true;
    const [oldest] = this.undelivered.values();
    return oldest === undefined || oldest.number > this.wokeWith;
  }

  /** A device that sleeps wakes and calls. */
  wake(): void {
    if (!('call' in this.link)) return;
    this.wokeAt = clock.now();
    this.wokeWith = this.log.at(-1)?.number ?? 0;
    this.emptyAt = null;
    this.lastSaid = this.wokeAt;
    this.link.call();
  }

  private valueOf(kind: PointKind, index: number): number {
    const key = keyOf(kind, index);
    return this.forced.get(key) ?? this.stormed.get(key) ?? this.model.value(kind, index) ?? 0;
  }

  private publish(quiet: boolean): void {
    const time = this.deviceTime();
    const { model } = this;
    const samples = model instanceof ValveLogger ? model.takeSamples() : null;
    if (samples !== null && !quiet) {
      const updates = samples.map((sample) => ({ ...sample, flags: Flag.online, exact: true, always: true }));
      // Its own clock's time of the sample.
      const shift = this.clockOffsetMs;
      this.driver.command({ type: 'update', updates: updates.map((one) => ({ ...one, time: one.time + shift })) });
    }
    const updates = model.points.flatMap(({ kind, index }) => {
      const forced = this.forced.has(keyOf(kind, index));
      // What is sampled is told by its samples; a frozen counter by the freezing.
      if ((samples !== null && kind === 'analog' && !forced && !quiet) || kind === 'frozenCounter') return [];
      const value = this.valueOf(kind, index);
      const text = kind === 'text' ? { text: model.text?.(index) ?? '' } : {};
      return [
        { kind, index, value, ...text, flags: Flag.online | (forced ? Flag.localForced : 0), time, exact: forced },
      ];
    });
    this.driver.command({ type: 'update', updates, quiet });
    if (model.files !== undefined && (quiet || model.files !== this.files)) {
      this.files = model.files;
      this.driver.command({ type: 'setFiles', files: model.files, rules: { mayDelete: true } });
    }
    this.driver.command({ type: 'setLocal', local: this.isLocal() });
    this.driver.command({ type: 'setClock', offsetMs: this.clockOffsetMs });
  }

  private isLocal(): boolean {
    const { remoteSwitch } = this.model;
    return remoteSwitch !== null && this.valueOf('binary', remoteSwitch) === 0;
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
    return this.model.points.flatMap(({ kind, index, name }) => {
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
    const { stormPoints } = this.model;
    const owed = Math.floor(((clock.now() - storm.began) * storm.perSecond) / 1000) - storm.made;
    for (let i = 0; i < Math.min(owed, stormPoints.length); i++) this.makeEvent(storm.made++);
  }

  /** An event of its own making: the next one of its storm points changes. */
  private makeEvent(number: number): void {
    const { stormPoints } = this.model;
    const { kind, index } = stormPoints[number % stormPoints.length];
    const before = this.stormed.get(keyOf(kind, index)) ?? this.valueOf(kind, index);
    const value = kind === 'binary' ? 1 - before : (before + 100) % 30_000;
    this.stormed.set(keyOf(kind, index), value);
    const update = { kind, index, value, flags: Flag.online, time: this.deviceTime(), exact: true };
    this.driver.command({ type: 'update', updates: [update] });
  }

  /** Makes more events than its buffer holds. */
  fill(): number {
    const most = this.outstation.settings.eventsPerClass;
    for (let i = 0; i < most + 10; i++) this.makeEvent(i);
    this.stormed.clear();
    return this.eventsWaiting;
  }

  private onEffect(effect: OutstationEffect): void {
    switch (effect.type) {
      case 'send':
        this.say(effect.octets);
        break;
      case 'event':
        this.remember(effect.event);
        break;
      case 'control':
        this.onControl(effect.token, effect.phase, effect.items);
        break;
      case 'timeWritten':
        this.setClock(effect.time - clock.now());
        this.model.clockSynchronised = true;
        break;
      case 'heard':
        this.heardAt.push(clock.now());
        this.lastSaid = clock.now();
        if (this.heardAt.length > MAX_HEARD) this.heardAt.splice(0, MAX_HEARD / 10);
        break;
      case 'countersCleared':
        this.model.clearCounters?.(effect.indexes);
        break;
      case 'restartAsked':
        setTimeout(() => void this.reboot(), 100);
        break;
      case 'fileDeleted':
        this.model.deleteFile?.(effect.name);
        break;
      case 'delivered':
        for (const { number } of effect.events) {
          const logged = this.undelivered.get(number);
          if (logged) logged.state = 'delivered';
          this.undelivered.delete(number);
        }
        break;
      case 'reported':
      case 'integrityAnswered':
      case 'diagnostic':
        break;
      default:
        effect satisfies never;
    }
  }

  private say(octets: Uint8Array): void {
    this.lastSaid = clock.now();
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

  private remember({ number: buffered, kind, index, value, flags, time }: BufferedEvent): void {
    const number = (this.log.at(-1)?.number ?? 0) + 1;
    const logged: LoggedEvent = { number, kind, index, value, flags, time, state: 'waiting' };
    this.undelivered.set(buffered, logged);
    this.log.push(logged);
    if (this.log.length > MAX_LOG) this.log.splice(0, MAX_LOG / 10);
  }

  private onControl(token: number, phase: 'select' | 'operate' | 'direct', items: ControlItem[]): void {
    const now = clock.now();
    const execute = phase !== 'select';
    const { model } = this;
    const statuses = items.map(({ index, block, setpoint }) => {
      const status = setpoint
        ? (model.setTo?.(index, setpoint, this.isLocal(), execute) ?? ControlStatus.notSupported)
        : model.operate(index, block, this.isLocal(), now, execute);
      if (execute && status === 0) {
        this.operations++;
        if (!setpoint) this.pulses.set(block.onMs, (this.pulses.get(block.onMs) ?? 0) + 1);
      }
      return status;
    });
    this.driver.command({ type: 'controlResult', token, statuses });
    const { nextMove } = model;
    if (nextMove !== null) setTimeout(() => this.on && this.tick(), Math.max(0, nextMove - now) + 1);
  }
}
