import { Lane, NO_LINE_TIMING, type LaneCommand, type LaneEffect } from '@halvix/core/line';
import { OPERATIONS, type PointKind } from '@halvix/core/point';
import type {
  Client,
  ClientCommand,
  ClientNews,
  ClientPoint,
  ControlStep,
  ConversationTerms,
} from '@halvix/core/protocols';
import { clock, Driver, TcpClient } from '@halvix/wire';
import { randomUUID } from 'node:crypto';
import { z } from 'zod';
import type { CentreStandIn } from '../centre.ts';

export interface ClientCentreSettings {
  code: string;
  name: string;
  /** Where it asks. */
  port: number;
}

/** How a centre gets to what it asks: a connection of its own, or a conversation in which it is a guest. */
export interface Way {
  readonly isUp: boolean;
  open(): void;
  close(): void;
  send(octets: Uint8Array): void;
  drop(words: string): void;
  /** Of a conversation that stands; absent: it makes its own. */
  within?: () => ConversationTerms;
}
export type MakeWay = (on: { up: () => void; down: () => void; data: (octets: Uint8Array) => void }) => Way;

export const byTcp =
  (host: string, port: number): MakeWay =>
  (on) => {
    const to = { host, port, connectTimeoutMs: 2000, reconnectFirstMs: 200, reconnectMaxMs: 2000 };
    const link = new TcpClient(to, { ...on, changed: () => {} });
    return {
      get isUp() {
        return link.state.state === 'connected';
      },
      open: () => link.open(),
      close: () => link.close(),
      send: (octets) => void link.send(octets),
      drop: (words) => link.drop(words),
    };
  };

/** The latest that a centre has of a point. */
export interface SeenPoint {
  kind: PointKind;
  address: string;
  value: number;
  text?: string;
  quality: number;
  time: number;
  received: number;
  event: boolean;
}

const controlBody = z.object({
  reference: z.string(),
  mode: z.enum(['selectOperate', 'selectOnly']).default('selectOperate'),
  operation: z.enum(OPERATIONS).nullable().default(null),
  value: z.number().nullable().default(null),
});
const CONTROL_LIMIT_MS = 15_000;
const MAX_KEPT_EVENTS = 200_000;
const DEVICE = 'here';

/** What a centre speaks. */
export interface Spoken<At> {
  protocol: string;
  client: (now: number, within?: () => ConversationTerms) => Client<At, never, Uint8Array>;
  /** A point by its address as text, and back. */
  parse: (address: string) => At;
  print: (at: At) => string;
}

/** A centre that is a client of what we offer: finds out what there is, and takes what reports bring. */
export class ClientCentre<At> implements CentreStandIn {
  private way: Way | null = null;
  private driver: Driver<LaneCommand<ClientCommand<At, never>>, LaneEffect<ClientNews>> | null = null;
  private readonly kept = new Map<string, SeenPoint>();
  private list: ClientPoint<At>[] = [];
  readonly events: SeenPoint[] = [];
  readonly commands: readonly object[] = [];
  private readonly waiting = new Map<string, { steps: ControlStep[]; done: (steps: ControlStep[]) => void }>();
  private state: 'off' | 'unknown' | 'answering' | 'silent' = 'off';

  constructor(
    private readonly settings: ClientCentreSettings,
    private readonly spoken: Spoken<At>,
    private readonly makeWay: MakeWay,
  ) {}

  get code(): string {
    return this.settings.code;
  }
  get on(): boolean {
    return this.way !== null;
  }

  report(): object {
    const { code, name, port } = this.settings;
    const connected = this.way?.isUp ?? false;
    return {
      code,
      name,
      protocol: this.spoken.protocol,
      address: null,
      port,
      on: this.on,
      connected,
      state: this.state,
    };
  }

  points(): SeenPoint[] {
    return [...this.kept.values()];
  }

  power(on: boolean): void {
    if (on === this.on) return;
    if (!on) {
      this.way?.close();
      this.driver?.stop();
      this.driver?.close();
      [this.way, this.driver, this.state] = [null, null, 'off'];
      return;
    }
    const now = clock.now();
    const way = this.makeWay({
      up: () => driver.start(),
      down: () => driver.stop(),
      data: (octets) => driver.receive(octets),
    });
    const client = this.spoken.client(now, way.within);
    const framing = { gapMs: 0, reset: () => {}, push: (octets: Uint8Array) => [octets], isFrame: () => true };
    const lane = new Lane<ClientCommand<At, never>, ClientNews, Uint8Array>(NO_LINE_TIMING, framing, now);
    lane.add(DEVICE, client, now);
    const driver = new Driver(lane, (effect) => this.onEffect(effect));
    [this.driver, this.way, this.state, this.list] = [driver, way, 'unknown', []];
    way.open();
  }

  control(body: unknown): Promise<readonly object[]> {
    const { reference, mode, operation, value } = controlBody.parse(body);
    const id = randomUUID();
    return new Promise((done) => {
      this.waiting.set(id, { steps: [], done });
      if (this.driver === null) return this.onStep(id, { step: 'failed', words: 'the centre is off' });
      this.command({
        ...{
          type: 'control',
          id,
          kind: operation === null ? 'setpoint' : 'output',
          at: this.spoken.parse(reference),
          mode,
        },
        ...{ operation, counts: value, onMs: 0, offMs: 0, count: 1, expiresAt: clock.now() + CONTROL_LIMIT_MS },
      });
    });
  }

  private command(command: ClientCommand<At, never>): void {
    this.driver?.command({ device: DEVICE, command });
  }

  private onStep(id: string, step: ControlStep): void {
    const one = this.waiting.get(id);
    if (one === undefined) return;
    one.steps.push(step);
    const goesOn = step.step === 'selectSent' || step.step === 'operateSent' || step.step === 'selected';
    // A select that was all that was wanted is its end: nothing follows.
    if (step.step === 'selected') setTimeout(() => one.steps.at(-1) === step && this.finish(id), 50);
    if (!goesOn) this.finish(id);
  }

  private finish(id: string): void {
    const one = this.waiting.get(id);
    this.waiting.delete(id);
    one?.done(one.steps);
  }

  private onEffect(effect: LaneEffect<ClientNews>): void {
    if (effect.type === 'send') this.way?.send(effect.octets);
    if (effect.type === 'device') this.onNews(effect.effect);
  }

  private onNews(news: ClientNews): void {
    switch (news.type) {
      case 'communication':
        this.state = news.state;
        // What there is is asked each time: the model may be another.
        if (news.state === 'answering') this.command({ type: 'survey', id: randomUUID() });
        break;
      case 'surveyed':
        this.list = news.found.map(({ kind, address }, id) => ({ id, kind, at: this.spoken.parse(address) }));
        this.command({ type: 'setPoints', points: this.list });
        break;
      case 'readings':
        for (const { id, kind, raw, text, quality, time, event } of news.readings)
          this.keep(id, kind, raw, text, quality, time, event);
        if (news.token !== null) this.command({ type: 'committed', token: news.token });
        break;
      case 'control': {
        const { type: _, id, ...step } = news;
        this.onStep(id, step);
        break;
      }
      case 'hangUp':
        this.way?.drop(news.words);
        break;
      default:
    }
  }

  private keep(
    id: number | null,
    kind: PointKind,
    value: number,
    text: string | undefined,
    quality: number,
    time: number | null,
    event: boolean,
  ): void {
    const at = this.list.find((one) => one.id === id)?.at;
    if (at === undefined) return;
    const now = clock.now();
    const address = this.spoken.print(at);
    const said = text === undefined ? {} : { text };
    const point = { kind, address, value, ...said, quality, time: time ?? now, received: now, event };
    this.kept.set(address, point);
    if (event) this.events.push(point);
    if (this.events.length > MAX_KEPT_EVENTS) this.events.splice(0, MAX_KEPT_EVENTS / 10);
  }
}
