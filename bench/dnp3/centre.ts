import { OPERATIONS, type Operation } from '@halvix/core/point';
import type { ControlMode, ControlStep } from '@halvix/core/protocols';
import {
  CONTROL_OPERATIONS,
  Master,
  masterSettings,
  type MasterCommand,
  type MasterEffect,
  type ReportedCommand,
  type Setpoint,
} from '@halvix/core/protocols/dnp3';
import type { PointKind } from '@halvix/core/point';
import { clock, Driver, TcpClient } from '@halvix/wire';
import { randomUUID } from 'node:crypto';
import { z } from 'zod';
import type { CentreStandIn } from '../centre.ts';

export interface CentreSettings {
  code: string;
  name: string;
  host: string;
  port: number;
  ourAddress: number;
  outstationAddress: number;
}

/** The latest that a centre has of a point. */
export interface KeptPoint {
  kind: PointKind;
  index: number;
  value: number;
  text?: string;
  flags: number;
  time: number;
  timeSource: string;
  received: number;
  event: boolean;
}

/** A control, or with `setpoint` the setting of an analog output. */
export type CentreControlOrder = { index: number; mode: ControlMode } & (
  | { operation: Operation; onMs: number; offMs: number; count: number }
  | { setpoint: Pick<Setpoint, 'variation' | 'value'> }
);

const controlOf = {
  index: z.number().int().min(0).max(65535),
  mode: z.enum(['selectOperate', 'direct', 'selectOnly']).default('selectOperate'),
};
const setpointBody = z.object({
  ...controlOf,
  setpoint: z.object({
    variation: z.union([z.literal(1), z.literal(2), z.literal(3), z.literal(4)]).default(1),
    value: z.number(),
  }),
});
const controlBody = z.object({
  ...controlOf,
  operation: z.enum(OPERATIONS),
  onMs: z.number().int().min(0).max(4_294_967_295).default(500),
  offMs: z.number().int().min(0).max(4_294_967_295).default(250),
  count: z.number().int().min(0).max(255).default(1),
});

const NO_BLOCK = { code: 0, count: 0, onMs: 0, offMs: 0 };

const CONTROL_LIMIT_MS = 15_000;
const MAX_KEPT_EVENTS = 200_000;

/** A stand-in for a control centre: a DNP3 master that polls our outstation and keeps what it gets. */
export class SimulatedCentre implements CentreStandIn {
  private link: TcpClient | null = null;
  private driver: Driver<MasterCommand, MasterEffect> | null = null;
  private readonly kept = new Map<string, KeptPoint>();
  readonly events: KeptPoint[] = [];
  /** Commands that our outputs were given, as reported to it. */
  readonly commands: ReportedCommand[] = [];
  private readonly controls = new Map<string, (steps: ControlStep[]) => void>();
  private readonly steps = new Map<string, ControlStep[]>();
  state: 'off' | 'unknown' | 'answering' | 'silent' = 'off';

  constructor(readonly settings: CentreSettings) {}

  get code(): string {
    return this.settings.code;
  }

  get on(): boolean {
    return this.link !== null;
  }

  report(): object {
    const { code, name, ourAddress: address, port } = this.settings;
    return { code, name, address, port, on: this.on, connected: this.connected, state: this.state };
  }

  /** Whether its connection stands at this moment; `state` outlives a short break. */
  get connected(): boolean {
    return this.link?.state.state === 'connected';
  }

  power(on: boolean): void {
    if (on === this.on) return;
    if (!on) {
      this.link?.close();
      this.driver?.stop();
      this.driver?.close();
      this.link = null;
      this.driver = null;
      this.state = 'off';
      return;
    }
    const { ourAddress, outstationAddress, host, port } = this.settings;
    const master = new Master(
      masterSettings.parse({
        ourAddress,
        theirAddress: outstationAddress,
        responseTimeoutMs: 10_000,
        class3PeriodMs: 1000,
        timeSync: 'never',
      }),
      clock.now(),
    );
    this.state = 'unknown';
    const driver = new Driver(master, (effect) => this.onEffect(effect));
    const link = new TcpClient(
      { host, port, connectTimeoutMs: 2000, reconnectFirstMs: 200, reconnectMaxMs: 2000 },
      {
        up: () => driver.start(),
        down: () => driver.stop(),
        data: (bytes) => driver.receive(bytes),
        changed: () => {},
      },
    );
    this.driver = driver;
    this.link = link;
    link.open();
  }

  points(): KeptPoint[] {
    return [...this.kept.values()];
  }

  /** Sends a control and resolves with every step of it, the last one being its end. */
  control(body: unknown): Promise<ControlStep[]> {
    return this.order(z.union([setpointBody, controlBody]).parse(body));
  }

  private order(order: CentreControlOrder): Promise<ControlStep[]> {
    const { index, mode } = order;
    const id = randomUUID();
    this.steps.set(id, []);
    return new Promise((resolve) => {
      this.controls.set(id, resolve);
      if (this.driver === null) {
        this.onStep(id, { step: 'failed', words: 'the centre is off' });
        return;
      }
      this.driver.command({
        type: 'control',
        id,
        index,
        mode,
        ...('setpoint' in order
          ? { block: NO_BLOCK, setpoint: order.setpoint }
          : { block: { ...order, code: CONTROL_OPERATIONS[order.operation] } }),
        expiresAt: clock.now() + CONTROL_LIMIT_MS,
      });
    });
  }

  private onStep(id: string, step: ControlStep): void {
    const steps = this.steps.get(id);
    if (steps === undefined) return;
    steps.push(step);
    if (step.step === 'selectSent' || step.step === 'operateSent') return;
    if (step.step === 'selected') {
      // Goes on by itself unless only a select was asked for; then this is the end.
      setTimeout(() => steps.at(-1) === step && this.finish(id), 50);
      return;
    }
    this.finish(id);
  }

  private finish(id: string): void {
    this.controls.get(id)?.(this.steps.get(id) ?? []);
    this.controls.delete(id);
    this.steps.delete(id);
  }

  private onEffect(effect: MasterEffect): void {
    switch (effect.type) {
      case 'send':
        this.link?.send(effect.octets);
        break;
      case 'readings':
        for (const { kind, index, value, text, flags, time, timeSource, event } of effect.readings) {
          const now = clock.now();
          const said = text === undefined ? {} : { text };
          const point = { kind, index, value, ...said, flags, time: time ?? now, timeSource, received: now, event };
          this.kept.set(`${kind} ${index}`, point);
          if (event) this.events.push(point);
        }
        if (this.events.length > MAX_KEPT_EVENTS) this.events.splice(0, MAX_KEPT_EVENTS / 10);
        if (effect.token !== null) this.driver?.command({ type: 'committed', token: effect.token });
        break;
      case 'commandsReported':
        this.commands.push(...effect.commands);
        break;
      case 'communication':
        this.state = effect.state;
        break;
      case 'control': {
        const { type: _, id, ...step } = effect;
        this.onStep(id, step);
        break;
      }
      case 'keep':
      case 'stranger':
      case 'answered':
      case 'surveyed':
      case 'clock':
      case 'ordered':
      case 'fileProgress':
      case 'unreadable':
      case 'diagnostic':
        break;
      default:
        effect satisfies never;
    }
  }
}
