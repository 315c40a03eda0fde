import { Lane, NO_LINE_TIMING, type LaneCommand, type LaneEffect } from '../../line/index.ts';
import type { PointKind } from '../../point/index.ts';
import type { Instant } from '../../session/index.ts';
import type { ClientCommand, ClientNews, ClientPoint } from '../client.ts';
import type { CentreOrder, ControlStep } from '../control.ts';
import {
  addressOf,
  deviceOf,
  readAddress,
  targetsOf,
  wayOut,
  type LinkedCode,
  type OfferedCode,
  type OutboundSettings,
  type PointAt,
  type TargetPointAt,
} from '../definitions.ts';
import type { Measured } from '../measured.ts';
import { NOTHING_REMEMBERED, type Server, type ServerEffect, type ServerPoint } from '../server.ts';
import { clientSide, serverSide } from './index.ts';

/*
 * Any client and any server of one protocol, joined by a wire in virtual time that can be cut, delayed and spoiled: what
 * every protocol has to keep to is tried with it (`conformance.test.ts`). A protocol that is added says what its settings
 * are to be, and is tried like all others.
 */

export type Code = LinkedCode & OfferedCode;
type Command = ClientCommand<PointAt, unknown>;
type DeviceLane = Lane<Command, ClientNews, unknown>;

/** What a protocol's two ends are set to. */
export interface Subject {
  code: Code;
  framing: string;
  device: object;
  outbound: object;
}

/** Whoever adds a protocol adds its line here. */
export const SUBJECTS: readonly Subject[] = [
  {
    ...{ code: 'dnp3', framing: '' },
    device: {
      ...{ ourAddress: 1, theirAddress: 10, responseTimeoutMs: 1000, retries: 1, timeSync: 'never' },
      ...{ class1PeriodMs: 500, class2PeriodMs: 500, integrityPeriodMs: 20_000, silentPeriodMs: 5000 },
    },
    outbound: { ourAddress: 10, theirAddress: 1 },
  },
  ...['tcp', 'rtu', 'ascii'].map((framing): Subject => ({
    ...{ code: 'modbus', framing },
    device: {
      ...{ unitId: 1, responseTimeoutMs: 1000, retries: 1, period1Ms: 500, period2Ms: 500, period3Ms: 500 },
      silentPeriodMs: 5000,
    },
    // Registers that nobody mapped are not there.
    outbound: { unitId: 1, fillsGaps: false },
  })),
  {
    ...{ code: 'iec61850', framing: '' },
    device: { responseTimeoutMs: 2000, integrityMs: 20_000, pollMs: 1000 },
    outbound: {},
  },
  {
    ...{ code: 'tase2', framing: '' },
    device: { domain: 'HERE', responseTimeoutMs: 2000, integrityMs: 20_000, pollMs: 1000 },
    outbound: { domain: 'HERE' },
  },
];

const PEER = 1;
const DEVICE = 'DEVICE';
export const BEGAN = Date.UTC(2096, 0, 1);
/** After a connection is lost it is made anew so much later. */
const RECONNECT_MS = 1000;

/** The points of both ends: how they are offered, and how they are seen there. */
export function pointsOf(
  { code, outbound }: Subject,
  kinds: readonly PointKind[],
): { offered: ServerPoint<TargetPointAt>; seen: ClientPoint<PointAt> }[] {
  const settings = wayOut(code)?.settings.parse(outbound) as OutboundSettings;
  const targets = targetsOf(code);
  return kinds.map((kind, id) => {
    const number =
      kinds.slice(0, id).filter((one) => one === kind).length *
      targets.width({ kind, at: targets.propose(kind, 0, 'raw', {}) });
    const target = { kind, at: targets.propose(kind, number, 'raw', {}), value: 'raw' as const };
    const read = readAddress(code, targets.seen?.(target, settings) ?? addressOf(target));
    if (read === null) throw new Error(`${code}: nothing reads ${addressOf(target)}`);
    // What both say of a point is the same: a type, an order of octets.
    const same = Object.entries(target.at).filter(([key]) => key in read.at);
    const at = { ...read.at, ...Object.fromEntries(same) };
    return { offered: { kind, at: target.at, deadband: 0 }, seen: { id, kind, at } };
  });
}

export class Both {
  now: Instant = BEGAN;
  readonly news: ClientNews[] = [];
  readonly controls: { phase: string; items: CentreOrder[]; token: number }[] = [];
  /** What each point said last here. */
  readonly latest = new Map<number, Measured>();
  /** All values that each point ever had here. */
  readonly values = new Map<number, number[]>();
  readonly steps: ControlStep[] = [];
  /** Octets from the server are kept back for so long, milliseconds; null: they never come. */
  delayMs: number | null = 0;
  /** Hears all that goes over the wire. */
  heard: (octets: Uint8Array, fromServer: boolean) => void = () => {};
  /** Spoils what goes over the wire. */
  spoil: (octets: Uint8Array, fromServer: boolean) => Uint8Array = (octets) => octets;
  /** The server carries controls out at once; otherwise nobody says what came of them. */
  answersControls = true;
  readonly client: { readonly holdsLine: boolean } & Parameters<DeviceLane['add']>[1];
  readonly lane: DeviceLane;
  server: Server<TargetPointAt>;
  private readonly several: boolean;
  private up = false;
  private reconnectAt: Instant | null = null;
  private readonly onTheWay: { at: Instant; octets: Uint8Array; toServer: boolean }[] = [];
  readonly offered: ServerPoint<TargetPointAt>[];
  readonly seen: ClientPoint<PointAt>[];

  constructor(
    readonly subject: Subject,
    kinds: readonly PointKind[],
    offers: (point: ServerPoint<TargetPointAt>, id: number) => boolean = () => true,
  ) {
    const { code, framing } = subject;
    const points = pointsOf(subject, kinds);
    this.offered = points.map(({ offered }) => offered);
    this.seen = points.map(({ seen }) => seen);
    const settings = wayOut(code)?.settings.parse(subject.outbound) as OutboundSettings;
    this.several = serverSide(code).peers(settings) !== null;
    const link = { framing, octetMs: 0 };
    this.server = serverSide(code).make(settings, link, this.offered.filter(offers), this.now, NOTHING_REMEMBERED);
    const side = clientSide(code);
    this.client = side.make(deviceOf(code).settings.parse(subject.device) as never, framing, this.now, {
      ...{ octetMs: 0, remembered: null, points: this.seen, phase: 0 },
    });
    this.lane = new Lane<Command, ClientNews, unknown>(NO_LINE_TIMING, side.framing(framing, 0), this.now);
    this.lane.add(DEVICE, this.client, this.now);
    this.settle();
  }

  // ---- the wire

  connect(): this {
    this.up = true;
    this.reconnectAt = null;
    if (this.several) this.server.command({ type: 'came', peer: PEER }, this.now);
    else this.server.start(this.now);
    this.lane.start(this.now);
    return this.run(1);
  }

  cut(): this {
    if (!this.up) return this;
    this.up = false;
    this.onTheWay.length = 0;
    this.lane.stop(this.now);
    if (this.several) this.server.command({ type: 'went', peer: PEER }, this.now);
    else this.server.stop(this.now);
    this.settle();
    return this;
  }

  /** Octets from nowhere, to either end. */
  inject(octets: Uint8Array, toServer: boolean): void {
    if (!this.up) return;
    if (!toServer) this.lane.receive(octets, this.now);
    else if (this.several) this.server.command({ type: 'octets', peer: PEER, octets }, this.now);
    else this.server.receive(octets, this.now);
    this.settle();
  }

  run(ms: number): this {
    const end = this.now + ms;
    this.settle();
    for (let steps = 0; ; steps++) {
      if (steps > 200_000) throw new Error('it goes round without time passing');
      const next = Math.min(
        this.lane.deadline ?? Infinity,
        this.server.deadline ?? Infinity,
        this.reconnectAt ?? Infinity,
        ...this.onTheWay.map(({ at }) => at),
      );
      if (next > end) break;
      this.now = Math.max(this.now, next);
      if (this.reconnectAt !== null && this.now >= this.reconnectAt) this.connect();
      for (const one of this.onTheWay.splice(0))
        if (one.at <= this.now) this.inject(one.octets, one.toServer);
        else this.onTheWay.push(one);
      this.lane.wake(this.now);
      this.server.wake(this.now);
      this.settle();
    }
    this.now = end;
    return this;
  }

  private settle(): void {
    for (let again = true; again;) {
      again = false;
      for (const effect of this.lane.take()) {
        again = true;
        this.onLane(effect);
      }
      for (const effect of this.server.take()) {
        again = true;
        this.onServer(effect);
      }
    }
  }

  private onLane(effect: LaneEffect<ClientNews>): void {
    if (effect.type === 'send') this.send(effect.octets, true);
    if (effect.type !== 'device') return;
    const news = effect.effect;
    this.news.push(news);
    if (news.type === 'readings') {
      for (const one of news.readings) {
        if (one.id === null) continue;
        this.latest.set(one.id, one);
        this.values.set(one.id, [...(this.values.get(one.id) ?? []), one.raw]);
      }
      if (news.token !== null) this.command({ type: 'committed', token: news.token });
    }
    if (news.type === 'control') this.steps.push(news);
    if (news.type === 'hangUp' && this.up) {
      this.cut();
      this.reconnectAt = this.now + RECONNECT_MS;
    }
  }

  private onServer(effect: ServerEffect): void {
    if (effect.type === 'send') this.send(effect.octets, false);
    if (effect.type === 'hangUp' && this.up) {
      this.cut();
      this.reconnectAt = this.now + RECONNECT_MS;
    }
    if (effect.type !== 'control') return;
    this.controls.push(effect);
    const outcomes = effect.items.map(() => ({ result: 'done' as const, status: null, protocol: null }));
    if (this.answersControls) this.server.command({ type: 'controlResult', token: effect.token, outcomes }, this.now);
  }

  private send(octets: Uint8Array, toServer: boolean): void {
    const delay = toServer ? 0 : this.delayMs;
    if (!this.up || delay === null) return;
    this.heard(octets, !toServer);
    const spoilt = this.spoil(octets, !toServer);
    if (spoilt.length > 0) this.onTheWay.push({ at: this.now + delay, octets: spoilt, toServer });
  }

  // ---- what both are told

  command(command: Command): void {
    this.lane.command({ device: DEVICE, command } as LaneCommand<Command>, this.now);
    this.settle();
  }

  /** Points at the server have these values, by their places; null: as it is. */
  set(...values: (number | null)[]): this {
    const updates = values.flatMap((value, at) => {
      const { kind, at: place } = this.offered[at];
      return value === null ? [] : [{ kind, at: place, value, quality: 0, time: this.now }];
    });
    this.server.command({ type: 'update', updates }, this.now);
    this.settle();
    return this;
  }

  /** Operates a point, for a while. */
  operate(id: number, expiresMs = 10_000): this {
    const [mode] = deviceOf(this.subject.code).orders.modes;
    const { at } = this.seen[id];
    this.command({
      ...{ type: 'control', id: `c${id}`, kind: 'output', at, mode, expiresAt: this.now + expiresMs },
      ...{ operation: 'latchOn', counts: null, onMs: 100, offMs: 100, count: 1 },
    });
    return this;
  }

  /** Operations that the server was given, selections aside. */
  get operations(): number {
    return this.controls.filter(({ phase }) => phase !== 'select').length;
  }
  get states(): string[] {
    return this.news.flatMap((one) => (one.type === 'communication' ? [one.state] : []));
  }
}
