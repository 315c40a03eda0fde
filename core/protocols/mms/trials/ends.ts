import { Lane, NO_LINE_TIMING, type LaneEffect } from '../../../line/index.ts';
import type {
  Client,
  ClientCommand,
  ClientNews,
  ClientOptions,
  ClientPoint,
  DetailTable,
  OrderAnswer,
} from '../../client.ts';
import type { ControlOrder } from '../../control.ts';
import type {
  OwedRecord,
  Remembered,
  Server,
  ServerCommand,
  ServerEffect,
  ServerPoint,
  ServerUpdate,
} from '../../server.ts';
import { NOTHING_REMEMBERED } from '../../server.ts';
import { stream } from '../stream.ts';

type TrialClient<Place, Order> = Client<Place, Order, Uint8Array>;

/** How the ends of a protocol are made. */
export interface Kit<Place, Target, Order, C extends TrialClient<Place, Order>, S extends Server<Target>> {
  client: (now: number, options: ClientOptions<Place>) => C;
  server: (offers: readonly ServerPoint<Target>[], now: number, before: Remembered) => S;
}

/** Something on the way between a client and a server. */
export interface Between {
  /** A connection is there. */
  begin: (now: number) => void;
  receive: (octets: Uint8Array, fromClient: boolean, now: number) => void;
  /** What arrives by now, and where. */
  take: (now: number) => { octets: Uint8Array; toClient: boolean }[];
  readonly deadline: number;
  /** It ends the connection. */
  readonly closing: boolean;
}

/** A client and a server on a connection, in virtual time; octets are a millisecond on their way. */
export class Ends<
  Place extends object,
  Target extends object,
  Order,
  C extends TrialClient<Place, Order>,
  S extends Server<Target>,
> {
  now = Date.UTC(2026, 10, 27, 6);
  client!: C;
  server: S;
  /** What the server has to remember, piece by piece. */
  kept: Uint8Array[] = [];
  /** What it owes, as it is stored, by number and queue. */
  owed = new Map<string, OwedRecord>();
  private lastNumber = 0;
  private readonly latest = new Map<string, ServerUpdate<Target>>();
  readonly news: ClientNews[] = [];
  readonly told: ServerEffect[] = [];
  /** Octets of either side, in order. */
  readonly sent: { octets: Uint8Array; fromClient: boolean }[] = [];
  /** What the server makes of controls; absent: it does them. */
  onControl: (effect: ServerEffect & { type: 'control' }) => ServerCommand<Target> | null = ({ token, items }) => ({
    ...{ type: 'controlResult', token },
    outcomes: items.map(() => ({ result: 'done', status: null, protocol: null })),
  });
  keep: Uint8Array | null = null;
  private lane!: Lane<ClientCommand<Place, Order>, ClientNews, Uint8Array>;
  private up = false;
  get isUp(): boolean {
    return this.up;
  }
  private closesAt = Infinity;
  /** What the octets of both go through; null: nothing. */
  between: Between | null = null;
  /** By which the server knows this client's connections. */
  peer = 1;
  private coming: { at: number; octets: Uint8Array; fromClient: boolean; peer: number }[] = [];

  constructor(
    public list: ClientPoint<Place>[],
    public offers: ServerPoint<Target>[],
    private readonly kit: Kit<Place, Target, Order, C, S>,
  ) {
    this.server = kit.server(offers, this.now, NOTHING_REMEMBERED);
    this.renew(null);
  }

  /** Another session of the device, as after a restart of the engine. */
  renew(remembered: Uint8Array | null): void {
    this.client = this.kit.client(this.now, { octetMs: 0, remembered, points: this.list, phase: 1 });
    this.lane = new Lane(NO_LINE_TIMING, stream, this.now);
    this.lane.add('D', this.client, this.now);
  }

  /** Our server dies and comes back; `anew`: what it remembers was written in one piece. */
  restartServer(anew = false): this {
    this.cut();
    if (anew) {
      if (this.server.keep) this.kept = [this.server.keep];
      this.owed = new Map((this.server.owed ?? []).map((one) => [`${one.queue} ${one.number}`, one]));
    }
    const { kept: pieces, lastNumber } = this;
    const records = [...this.owed.values()].sort((a, b) => a.number - b.number);
    const owes = records.length > 0;
    this.server = this.kit.server(this.offers, this.now, { pieces, lastNumber, owes });
    // As the engine does: what is known already is told to nobody.
    this.server.command({ type: 'update', updates: [...this.latest.values()], manner: 'quiet' }, this.now);
    if (owes) this.server.command({ type: 'owed', records, last: true }, this.now);
    this.settle();
    return this;
  }

  start(): this {
    this.up = true;
    this.server.command({ type: 'came', peer: ++this.peer, from: '127.0.0.9' }, this.now);
    this.between?.begin(this.now);
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
  /** The server's octets, or the client's, get no further, and nobody knows. */
  deaf = false;
  mute = false;

  command(command: ClientCommand<Place, Order>): void {
    this.lane.command({ device: 'D', command }, this.now);
    this.settle();
  }
  /** Something at the server's place. */
  serve(command: ServerCommand<Target>): void {
    this.server.command(command, this.now);
    this.settle();
  }
  protected tell(key: string, update: ServerUpdate<Target>): void {
    this.latest.set(key, update);
    this.serve({ type: 'update', updates: [update] });
  }
  protected order(at: Place, kind: ControlOrder<Place>['kind'], wanted: Partial<ControlOrder<Place>>): void {
    this.command({
      ...{ type: 'control', id: `c${this.controls++}`, kind, at, mode: 'selectOperate', operation: null },
      ...{ counts: null, onMs: 0, offMs: 0, count: 1, expiresAt: this.now + 30_000, ...wanted },
    });
    this.run(50);
  }
  private controls = 0;

  run(ms: number): this {
    const end = this.now + ms;
    for (;;) {
      const between = this.up ? this.between?.deadline : undefined;
      const deadlines = [this.lane.deadline, this.server.deadline, this.coming[0]?.at, this.closesAt, between];
      const next = Math.min(...deadlines.map((one) => one ?? Infinity));
      if (next > end) break;
      this.now = Math.max(this.now, next);
      const due = this.coming.filter(({ at }) => at <= this.now);
      this.coming = this.coming.filter(({ at }) => at > this.now);
      for (const { octets, fromClient, peer } of due) {
        if (this.between !== null) this.between.receive(octets, fromClient, this.now);
        else this.deliver(octets, !fromClient, peer);
        this.settle();
      }
      for (const { octets, toClient } of (this.up && this.between?.take(this.now)) || []) {
        this.deliver(octets, toClient, this.peer);
        this.settle();
      }
      if (this.up && this.between?.closing) this.closesAt = Math.min(this.closesAt, this.now + 2);
      this.lane.wake(this.now);
      this.server.wake(this.now);
      if (this.now >= this.closesAt) this.cut();
      this.settle();
    }
    this.now = end;
    return this;
  }

  private deliver(octets: Uint8Array, toClient: boolean, peer: number): void {
    if (!toClient && !this.mute) this.server.command({ type: 'octets', peer, octets }, this.now);
    else if (toClient && this.up && !this.deaf) this.lane.receive(octets, this.now);
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
    if (news.type !== 'readings') return;
    this.keep = news.keep ?? this.keep;
    if (news.token === null) return;
    this.lane.command({ device: 'D', command: { type: 'committed', token: news.token } }, this.now);
  }

  private onServer(effect: ServerEffect): void {
    this.told.push(effect);
    if (effect.type === 'keep') this.kept = effect.replaces ? [effect.octets] : [...this.kept, effect.octets];
    if (effect.type === 'owes') {
      this.lastNumber = Math.max(this.lastNumber, effect.number);
      this.owed.set(`${effect.queue} ${effect.number}`, effect);
    }
    if (effect.type === 'settled') {
      for (const [key, { queue, number }] of this.owed) {
        if (queue !== effect.queue) continue;
        // In a queue they stand in their order.
        if (number > effect.position) break;
        this.owed.delete(key);
      }
      for (const number of effect.beyond) this.owed.delete(`${effect.queue} ${number}`);
    }
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
  last(id: number): ReturnType<Ends<Place, Target, Order, C, S>['readings']>[number] | undefined {
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
    return this.client.counters.values.associations ?? 0;
  }
  words(type: 'noted' | 'diagnostic'): string[] {
    return this.news.flatMap((one) => (one.type === type ? [one.words] : []));
  }
  detail(key: string): DetailTable {
    const found = this.client.details?.find((one) => one.key === key);
    if (found === undefined) throw new Error(`no ${key}`);
    return found;
  }
}
