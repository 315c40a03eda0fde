import { FEEDER_RELAY, type NumberedPoint } from '../scenario/feederrelay.ts';
import { recordFiles, type Disturbance } from '../scenario/record.ts';
import { numberedKey, type Order, type Plant, type PlantFile, type Refusal } from '../plant.ts';

/** Opening and closing times of the breaker, milliseconds. */
const OPENS_IN_MS = 45;
const CLOSES_IN_MS = 60;
/** Two for each record. */
const MAX_FILES = 20;
const MAX_OPERATIONS_MS = 600_000;

const BI = {
  breaker: 0,
  tripTarget: 2,
  remote: 6,
  closingBlocked: 10,
  autoReclose: 11,
  group2: 18,
  heater: 25,
  record: 26,
  clock: 27,
};
const BO = {
  breaker: 0,
  resetTarget: 1,
  autoReclose: 2,
  group2: 3,
  record: 4,
  earthFault: 5,
  blockClosing: 6,
  heater: 7,
  lampTest: 8,
  resetPeak: 9,
  spare1: 10,
  spare2: 11,
};

const STORM_KEYS = new Set([
  ...[19, 20, 21, 22, 23, 24, 26].map((index) => numberedKey('binary', index)),
  ...[19, 20, 21, 22, 23, 24, 25, 26, 27].map((index) => numberedKey('analog', index)),
]);

/** Which input shows the state of a latched output. */
const SHOWN_BY: Partial<Record<number, number>> = {
  [BO.autoReclose]: BI.autoReclose,
  [BO.group2]: BI.group2,
  [BO.blockClosing]: BI.closingBlocked,
  [BO.heater]: BI.heater,
};

/**
 * The invented feeder relay, alive: its load follows the day, trip opens the breaker and the currents go to zero,
 * close brings them back. Values are wire counts. Time and chance come from outside.
 */
export class FeederRelay implements Plant<NumberedPoint> {
  readonly points = FEEDER_RELAY;
  readonly product = 'Feeder relay, simulated';
  readonly version = '1.4.0';
  readonly forced = new Map<string, number>();
  readonly stormPoints = FEEDER_RELAY.filter(({ key }) => STORM_KEYS.has(key));
  private readonly binaries = new Array<number>(28).fill(0);
  private readonly outputs = new Array<number>(12).fill(0);
  private readonly analogs = new Array<number>(36).fill(0);
  private readonly counters = [81_402, 12, 312, 7];
  private breakerMoves: { at: number; to: 0 | 1 } | null = null;
  private pulses: { output: number; until: number }[] = [];
  private lastTick: number;
  private readonly startedAt: number;
  private noise = { load: 0, frequency: 0, voltage: 0 };
  private peak = 0;

  private records = 0;
  files: readonly PlantFile[] = [];

  constructor(
    now: number,
    private readonly random: () => number,
  ) {
    this.startedAt = now;
    this.lastTick = now;
    for (const index of [BI.breaker, 5, BI.remote, 7, 9, 14, 16]) this.binaries[index] = 1;
    this.outputs[BO.breaker] = 1;
    this.tick(now);
    this.record({ time: now - 3 * 3_600_000, amperes: 190, kilovolts: 33 });
  }

  private record(disturbance: Disturbance): void {
    this.files = [...this.files, ...recordFiles(++this.records, disturbance)].slice(-MAX_FILES);
  }

  deleteFile(name: string): void {
    this.files = this.files.filter((file) => file.name !== name);
  }

  private readonly byKind = new Map([
    ['binary', this.binaries],
    ['output', this.outputs],
    ['analog', this.analogs],
    ['counter', this.counters],
  ]);

  value(key: string): number | undefined {
    const [kind, index] = key.split(' ');
    return this.byKind.get(kind)?.[Number(index)];
  }

  /** The switch as the relay sees it, forced or not. */
  get isLocal(): boolean {
    return (this.forced.get(numberedKey('binary', BI.remote)) ?? this.binaries[BI.remote]) === 0;
  }

  get clockSynchronised(): boolean {
    return this.binaries[BI.clock] === 1;
  }

  set clockSynchronised(synchronised: boolean) {
    this.binaries[BI.clock] = synchronised ? 1 : 0;
  }

  operate(key: string, order: Order, now: number, execute: boolean): Refusal | null {
    const [kind, number] = key.split(' ');
    const index = Number(number);
    if (kind !== 'output' || this.outputs[index] === undefined) return 'notSupported';
    if (this.isLocal) return 'local';
    const { operation, onMs, offMs, count } = order;
    if (operation === null || count !== 1) return 'notSupported';
    if (onMs > MAX_OPERATIONS_MS || offMs > MAX_OPERATIONS_MS) return 'outOfRange';
    if (index === BO.breaker) {
      const closing = operation === 'close' || operation === 'latchOn';
      if (!closing && operation !== 'trip' && operation !== 'latchOff') return 'notSupported';
      if (closing && this.binaries[BI.closingBlocked]) return 'blocked';
      if (execute) this.breakerMoves = { at: now + (closing ? CLOSES_IN_MS : OPENS_IN_MS), to: closing ? 1 : 0 };
      return null;
    }
    const latches = operation === 'latchOn' || operation === 'latchOff';
    const pulses = operation === 'pulseOn';
    const pulsed = [BO.resetTarget, BO.record, BO.lampTest, BO.resetPeak].includes(index);
    if (!(pulsed ? pulses : latches || (pulses && index >= BO.spare1))) return 'notSupported';
    if (execute) this.drive(index, order, now);
    return null;
  }

  private drive(index: number, { operation, onMs }: Order, now: number): void {
    if (operation === 'pulseOn') {
      this.outputs[index] = 1;
      this.pulses.push({ output: index, until: now + onMs });
    } else this.outputs[index] = operation === 'latchOn' ? 1 : 0;
    const shown = SHOWN_BY[index];
    if (shown !== undefined) this.binaries[shown] = this.outputs[index];
    if (index === BO.resetTarget) this.binaries[BI.tripTarget] = 0;
    if (index === BO.record) this.binaries[BI.record] = 1;
    if (index === BO.resetPeak) this.peak = 0;
  }

  /** When something is going to happen before the next tick; null: nothing. */
  get nextMove(): number | null {
    return this.breakerMoves?.at ?? null;
  }

  tick(now: number): void {
    if (this.breakerMoves !== null && now >= this.breakerMoves.at) {
      const { to } = this.breakerMoves;
      if (this.binaries[BI.breaker] !== to) this.counters[2]++;
      if (to === 0) {
        this.binaries[BI.tripTarget] = 1;
        this.record({ time: now, amperes: this.analogs[0] * 0.025, kilovolts: this.analogs[7] / 1000 });
      }
      this.binaries[BI.breaker] = to;
      this.outputs[BO.breaker] = to;
      this.breakerMoves = null;
    }
    for (const { output, until } of this.pulses) if (now >= until) this.outputs[output] = 0;
    this.pulses = this.pulses.filter(({ until }) => now < until);
    this.measure(now);
    this.lastTick = now;
  }

  private measure(now: number): void {
    const wander = (value: number, width: number): number =>
      Math.max(-width, Math.min(width, value * 0.98 + (this.random() - 0.5) * width * 0.25));
    this.noise = {
      load: wander(this.noise.load, 0.03),
      frequency: wander(this.noise.frequency, 0.03),
      voltage: wander(this.noise.voltage, 0.004),
    };
    const closed = this.binaries[BI.breaker] === 1;
    const load = closed ? dailyLoad(now) * (1 + this.noise.load) : 0;
    const amps = 240 * load;
    const lineVolts = 33_000 * (1 + this.noise.voltage) - 4 * amps * 0.1;
    const factor = 0.96;
    const megawatts = (Math.sqrt(3) * lineVolts * amps * factor) / 1e6;
    const apparent = megawatts / factor;
    this.peak = Math.max(this.peak, amps);
    const hours = (now - this.startedAt) / 3_600_000;
    const set = (index: number, value: number): void => void (this.analogs[index] = Math.round(value));
    [1, 0.985, 1.01].forEach((share, i) => set(i, (amps * share) / 0.025));
    set(3, (amps * 0.012) / 0.025);
    [1, 0.998, 1.001].forEach((share, i) => {
      set(4 + i, (lineVolts * share) / Math.sqrt(3));
      set(7 + i, lineVolts * share);
    });
    set(10, (50 + this.noise.frequency) / 0.01);
    set(11, closed ? factor * 1000 : 1000);
    set(12, megawatts * 1000);
    set(13, Math.sqrt(Math.max(0, apparent ** 2 - megawatts ** 2)) * 1000);
    set(14, apparent * 1000);
    set(15, amps * 10);
    set(16, this.peak * 10);
    set(17, 140 + this.counters[2] / 100);
    set(18, 1000 * load ** 2 * 0.6);
    [1840, 410, 395].forEach((value, i) => set(19 + i, value));
    set(22, 412);
    set(23, 310 + 20 * load);
    set(24, 1_105);
    set(25, 21 + 5 * load);
    set(26, 12);
    set(27, 4);
    set(28, closed ? 18 : 0);
    set(29, 142);
    set(30, 180 + 160 * load);
    set(31, closed ? -163 : 0);
    set(32, 0);
    set(33, this.noise.frequency * 40);
    set(34, 62);
    set(35, 20_411 + hours);
    const elapsedHours = Math.max(0, now - this.lastTick) / 3_600_000;
    this.energyRest += megawatts * 10 * elapsedHours;
    const whole = Math.floor(this.energyRest);
    this.counters[0] = (this.counters[0] + whole) >>> 0;
    this.energyRest -= whole;
  }

  private energyRest = 0;
}

/** Share of the rated load over the day: a low at four in the morning, peaks at nine and at nineteen (UTC). */
export function dailyLoad(now: number): number {
  const hour = (now / 3_600_000) % 24;
  const peak = (at: number, width: number): number =>
    Math.exp(-((((hour - at + 36) % 24) - 12) ** 2) / (2 * width ** 2));
  return 0.45 + 0.3 * peak(9, 2.5) + 0.45 * peak(19, 3) - 0.08 * peak(4, 2);
}
