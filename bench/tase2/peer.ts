import { Quality } from '@halvix/core/point';
import type { ControlOutcome, ConversationTerms, GuestNews } from '@halvix/core/protocols';
import { serverSettings, TaseServer } from '@halvix/core/protocols/tase2';
import { clock } from '@halvix/wire';
import type { BenchLink } from '../link.ts';
import type { MakeWay } from '../mms/centre.ts';
import type { Plant, Refusal } from '../plant.ts';
import type { PeerPoint } from '../scenario/tase2.ts';
import { StandIn, type StandInSettings } from '../standin.ts';

export interface PeerSettings extends StandInSettings {
  domain: string;
  bilateralTable: string;
}

/** The one client that its link lets in. */
const PEER = 1;
const REFUSALS: Record<Refusal, NonNullable<ControlOutcome['refusal']>> = {
  local: 'local',
  blocked: 'interlocked',
  notSupported: 'notSupported',
  outOfRange: 'outOfRange',
};

/** A neighbour's centre as the server of an agreement: what it names is what we see. */
export class PeerStandIn extends StandIn<PeerPoint> {
  protected readonly protocol = 'tase2';
  protected readonly address;
  private readonly server: TaseServer;
  private readonly shown = new Map<string, string>();

  constructor({ domain, bilateralTable, ...settings }: PeerSettings, link: BenchLink, plant: Plant<PeerPoint>) {
    super(settings, link, plant);
    this.address = domain;
    const points = plant.points.map(({ kind, at }) => ({ kind, at, deadband: 0 }));
    this.server = new TaseServer(serverSettings.parse({ domain, bilateralTable }), points, clock.now());
  }

  protected indexOf(point: PeerPoint): number {
    return this.plant.points.filter(({ kind }) => kind === point.kind).indexOf(point);
  }

  up(): void {
    this.server.command({ type: 'came', peer: PEER }, clock.now());
    this.flush();
  }
  down(): void {
    this.server.command({ type: 'went', peer: PEER }, clock.now());
    this.flush();
  }
  data(octets: Uint8Array): void {
    this.heard();
    this.server.command({ type: 'octets', peer: PEER, octets }, clock.now());
    this.flush();
  }
  /** For a client of the same centre, in the association that was made with its server. */
  readonly asGuest: MakeWay = (on) => {
    const tell = (command: Parameters<TaseServer['command']>[0]): void => {
      this.server.command(command, clock.now());
      this.flush();
    };
    let terms: ConversationTerms = { octets: 0, requests: 1 };
    let stands = false;
    this.guest = (news) => {
      if (news.what === 'hears') return on.data(news.octets);
      stands = news.what === 'begins';
      if (news.what === 'ends') return on.down();
      ({ terms } = news);
      on.up();
    };
    return {
      get isUp() {
        return stands;
      },
      open: () => tell({ type: 'guest', what: 'comes' }),
      close: () => tell({ type: 'guest', what: 'goes' }),
      send: (octets) => tell({ type: 'guest', what: 'says', octets }),
      drop: () => this.link.cut(),
      within: () => terms,
    };
  };
  private guest: (news: GuestNews) => void = () => {};

  protected begin(): void {
    this.show();
  }
  protected end(): void {}

  private flush(): void {
    for (const effect of this.server.take()) {
      if (effect.type === 'send') this.say(effect.octets);
      else if (effect.type === 'hangUp') this.link.cut();
      else if (effect.type === 'guest') this.guest(effect);
      else if (effect.type === 'control') {
        const { token, items } = effect;
        const outcomes = items.map((item): ControlOutcome => {
          const point = this.plant.points.find(({ at }) => at.name === item.address);
          const operation = item.on === undefined ? item.operation : item.on ? 'close' : 'trip';
          const order = { operation, counts: item.counts, onMs: 0, offMs: 0, count: 1 };
          const refusal = point ? this.plant.operate(point.key, order, clock.now(), true) : 'notSupported';
          if (refusal !== null) return { result: 'refused', status: 0, protocol: 'plant', refusal: REFUSALS[refusal] };
          this.operations++;
          this.tickAtMove();
          return { result: 'done', status: null, protocol: null };
        });
        this.server.command({ type: 'controlResult', token, outcomes }, clock.now());
        this.show();
      }
    }
    this.wakeAt(this.server.deadline, () => {
      this.server.wake(clock.now());
      this.flush();
    });
  }

  protected show(): void {
    const now = clock.now();
    const updates = this.plant.points.flatMap((point) => {
      const value = Number(this.valueOf(point));
      const quality = this.isOwn(point) ? 0 : Quality.forcedAtDevice;
      const shown = `${value} ${quality}`;
      if (this.shown.get(point.key) === shown) return [];
      this.shown.set(point.key, shown);
      return [{ kind: point.kind, at: point.at, value, quality, time: now }];
    });
    if (updates.length > 0) this.server.command({ type: 'update', updates }, now);
    this.flush();
  }
}
