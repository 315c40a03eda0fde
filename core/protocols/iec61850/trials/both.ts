import { Lane, NO_LINE_TIMING, type LaneEffect } from '../../../line/index.ts';
import type { PointKind } from '../../../point/index.ts';
import type { ClientCommand, ClientNews, ClientPoint, DetailTable, OrderAnswer } from '../../client.ts';
import type { ControlOrder } from '../../control.ts';
import type { ServerCommand, ServerEffect, ServerPoint, ServerUpdate } from '../../server.ts';
import { IecClient } from '../client/client.ts';
import type { Order } from '../order.ts';
import { iecAt, points, targetAtSchema, type IecAt, type IecTargetAt } from '../points.ts';
import { IecServer } from '../server/server.ts';
import { clientSettings, serverSettings } from '../settings.ts';
import { client as side } from '../sessions.ts';

type Command = ClientCommand<IecAt, Order>;

/** A point of a client's list, by its reference. */
export const listed = (
  id: number,
  kind: PointKind,
  reference: string,
  way: IecAt['way'] = 'auto',
): ClientPoint<IecAt> => ({
  ...{ id, kind, at: { ...iecAt(reference), way } },
});

/** A point as a server offers it: `HLM/GGIO1.Ind1[ST]`. */
export function offered(
  kind: PointKind,
  reference: string,
  cdc: IecTargetAt['cdc'],
  more: Partial<ServerPoint<IecTargetAt>> = {},
): ServerPoint<IecTargetAt> {
  const [, device, node, object, fc] = /^(\w+)\/(\w+)\.([\w.]+)\[(\w+)\]$/.exec(reference) ?? [];
  const at = targetAtSchema.parse({ protocol: 'iec61850', device, node, object, fc, cdc });
  return { kind, at, deadband: 0, ...more };
}

/** Our client and our server on a connection, in virtual time; octets are a millisecond on their way. */
export class Both {
  now = Date.UTC(2026, 10, 27, 6);
  client!: IecClient;
  server: IecServer;
  /** What the server has to remember, piece by piece. */
  kept: Uint8Array[] = [];
  private readonly latest = new Map<string, ServerUpdate<IecTargetAt>>();
  readonly news: ClientNews[] = [];
  readonly told: ServerEffect[] = [];
  /** Octets of either side, in order. */
  readonly sent: { octets: Uint8Array; fromClient: boolean }[] = [];
  /** What the server makes of controls; absent: it does them. */
  onControl: (effect: ServerEffect & { type: 'control' }) => ServerCommand<IecTargetAt> | null = ({
    token,
    items,
  }) => ({
    ...{ type: 'controlResult', token },
    outcomes: items.map(() => ({ result: 'done', status: null, protocol: null })),
  });
  keep: Uint8Array | null = null;
  private lane!: Lane<Command, ClientNews, Uint8Array>;
  private up = false;
  private closesAt = Infinity;
  /** By which the server knows this client's connections. */
  peer = 1;
  private coming: { at: number; octets: Uint8Array; fromClient: boolean; peer: number }[] = [];

  constructor(
    public list: ClientPoint<IecAt>[],
    private readonly offers: ServerPoint<IecTargetAt>[],
    private readonly settings: { client?: object; server?: object } = {},
  ) {
    this.server = new IecServer(serverSettings.parse(settings.server ?? {}), offers, this.now);
    this.renew(null);
  }

  /** Another session of the device, as after a restart of the engine. */
  renew(remembered: Uint8Array | null): void {
    const settings = clientSettings.parse(this.settings.client ?? {});
    this.client = new IecClient(settings, this.now, { octetMs: 0, remembered, points: this.list, phase: 1 });
    this.lane = new Lane(NO_LINE_TIMING, side.framing('', 0) as never, this.now);
    this.lane.add('D', this.client, this.now);
  }

  /** Our server dies and comes back; `anew`: what it remembers was written in one piece. */
  restartServer(anew = false): this {
    this.cut();
    if (anew) this.kept = [this.server.keep];
    this.server = new IecServer(serverSettings.parse(this.settings.server ?? {}), this.offers, this.now, this.kept);
    // As the engine does: what is known already is told to nobody.
    this.server.command({ type: 'update', updates: [...this.latest.values()], quiet: true }, this.now);
    return this;
  }

  start(): this {
    this.up = true;
    this.server.command({ type: 'came', peer: ++this.peer, from: '127.0.0.9' }, this.now);
    this.lane.start(this.now);
    this.settle();
    return this.run(100);
  }
  cut(): this {
    this.up = false;
    this.closesAt = Infinity;
    this.coming = [];
    this.lane.stop(this.now);
    this.server.command({ type: 'went', peer: this.peer }, this.now);
    this.settle();
    return this;
  }
  /** The server's octets get no further, and nobody knows. */
  deaf = false;

  command(command: Command): void {
    this.lane.command({ device: 'D', command }, this.now);
    this.settle();
  }
  update(
    kind: PointKind,
    reference: string,
    cdc: IecTargetAt['cdc'],
    value: number,
    more: Partial<ServerUpdate<IecTargetAt>> = {},
  ): void {
    const { at } = offered(kind, reference, cdc);
    const update = { kind, at, value, quality: 0, time: this.now, ...more };
    this.latest.set(reference, update);
    this.server.command({ type: 'update', updates: [update] }, this.now);
    this.settle();
  }
  control(at: string, kind: ControlOrder<IecAt>['kind'], wanted: Partial<ControlOrder<IecAt>>): void {
    this.command({
      ...{ type: 'control', id: `c${this.controls++}`, kind, at: iecAt(at), mode: 'selectOperate', operation: null },
      ...{ counts: null, onMs: 0, offMs: 0, count: 1, expiresAt: this.now + 30_000, ...wanted },
    });
    this.run(50);
  }
  private controls = 0;

  run(ms: number): this {
    const end = this.now + ms;
    for (;;) {
      const deadlines = [this.lane.deadline, this.server.deadline, this.coming[0]?.at, this.closesAt];
      const next = Math.min(...deadlines.map((one) => one ?? Infinity));
      if (next > end) break;
      this.now = Math.max(this.now, next);
      const due = this.coming.filter(({ at }) => at <= this.now);
      this.coming = this.coming.filter(({ at }) => at > this.now);
      for (const { octets, fromClient, peer } of due) {
        if (fromClient) this.server.command({ type: 'octets', peer, octets }, this.now);
        else if (this.up && !this.deaf) this.lane.receive(octets, this.now);
        this.settle();
      }
      this.lane.wake(this.now);
      this.server.wake(this.now);
      if (this.now >= this.closesAt) this.cut();
      this.settle();
    }
    this.now = end;
    return this;
  }

  private settle(): void {
    for (let busy = true; busy;) {
      busy = false;
      for (const effect of this.lane.take()) {
        busy = true;
        this.onLane(effect);
      }
      for (const effect of this.server.take()) {
        busy = true;
        this.onServer(effect);
      }
    }
  }

  private onLane(effect: LaneEffect<ClientNews>): void {
    if (effect.type === 'send') {
      this.sent.push({ octets: effect.octets, fromClient: true });
      this.coming.push({ at: this.now + 1, octets: effect.octets, fromClient: true, peer: this.peer });
    }
    if (effect.type !== 'device') return;
    const news = effect.effect;
    this.news.push(news);
    if (news.type === 'hangUp') this.cut();
    if (news.type !== 'readings' || news.token === null) return;
    this.keep = news.keep;
    this.lane.command({ device: 'D', command: { type: 'committed', token: news.token } }, this.now);
  }

  private onServer(effect: ServerEffect): void {
    this.told.push(effect);
    if (effect.type === 'keep') this.kept.push(effect.octets);
    if (effect.type === 'send' && this.up && effect.peer === this.peer) {
      this.sent.push({ octets: effect.octets, fromClient: false });
      this.coming.push({ at: this.now + 1, octets: effect.octets, fromClient: false, peer: this.peer });
    }
    // What is on its way arrives before that.
    if (effect.type === 'hangUp' && effect.peer === this.peer && this.up) this.closesAt = this.now + 2;
    if (effect.type === 'control') {
      const answer = this.onControl(effect);
      if (answer !== null) this.server.command(answer, this.now);
    }
  }

  /** Asks something, and returns what came of it. */
  ask(order: Order): { problem: string | null; answer: OrderAnswer } {
    this.command({ type: 'order', id: `o${this.news.length}`, order });
    this.run(2000);
    const ended = this.news.filter((one) => one.type === 'ordered').at(-1);
    if (ended === undefined) throw new Error('no answer');
    return ended;
  }

  /** What came so far of a point, as `value quality event`, oldest first. */
  readings(id: number): { raw: number; text?: string; quality: number; event: boolean; time: number | null }[] {
    return this.news.flatMap((one) =>
      one.type === 'readings'
        ? one.readings
            .filter((reading) => reading.id === id)
            .map(({ raw, text, quality, event, time }) => ({
              raw,
              ...(text === undefined ? {} : { text }),
              quality,
              event,
              time,
            }))
        : [],
    );
  }
  last(id: number): ReturnType<Both['readings']>[number] | undefined {
    return this.readings(id).at(-1);
  }
  /** The steps of the last control, in words. */
  steps(): string[] {
    const controls = this.news.filter((one) => one.type === 'control');
    const { id } = controls.at(-1) ?? { id: '' };
    return controls
      .filter((one) => one.id === id)
      .map((one) => ('words' in one ? `${one.step}: ${one.words}` : one.step));
  }
  counters(): number {
    return this.client.counters.values.associations;
  }
  words(type: 'noted' | 'diagnostic'): string[] {
    return this.news.flatMap((one) => (one.type === type ? [one.words] : []));
  }
  detail(key: string): DetailTable {
    const found = this.client.details.find((one) => one.key === key);
    if (found === undefined) throw new Error(`no ${key}`);
    return found;
  }
}

export const printed = (at: IecAt): string => points.print({ kind: 'binary', at });
