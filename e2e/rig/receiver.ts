import { Lane, NO_LINE_TIMING, type LaneCommand, type LaneEffect } from '@halvix/core/line';
import type { PointKind } from '@halvix/core/point';
import {
  type ClientCommand,
  type ClientNews,
  type ClientPoint,
  type PointAt,
  type ProtocolCode,
  deviceOf,
} from '@halvix/core/protocols';
import { clientSide } from '@halvix/core/protocols/sessions';
import { clock, Driver, TcpClient } from '@halvix/wire';

/** An event as a centre has it. */
export interface Received {
  /** Of the device's point that it comes from: `binary 19`. */
  point: string;
  /** As its device said it, ms since 1970. */
  time: number;
  /** When it came. */
  at: number;
}

type Command = ClientCommand<PointAt, unknown>;

/**
 * A centre that remembers what a good one does (which events it may get again, which report it had last) while it is
 * away, and keeps each event that it gets.
 */
export class Receiver {
  readonly received: Received[] = [];
  private session: {
    link: TcpClient;
    driver: Driver<LaneCommand<Command>, LaneEffect<ClientNews>>;
    keep: () => Uint8Array;
  } | null = null;
  private remembered: Uint8Array | null = null;
  state = 'off';

  constructor(
    readonly protocol: ProtocolCode,
    public port: number,
    private readonly settings: object,
    /** Where this centre has them, and the device's points that they come from. */
    private readonly points: readonly { kind: PointKind; at: PointAt; point: string }[],
  ) {}

  come(): void {
    if (this.session !== null) return;
    const side = clientSide(this.protocol);
    const list = this.points.map(({ kind, at }, id): ClientPoint<PointAt> => ({ id, kind, at }));
    const settings = deviceOf(this.protocol).settings.parse(this.settings);
    const client = side.make(settings as never, '', clock.now(), {
      ...{ octetMs: 0, remembered: this.remembered, points: list, phase: 0.1, code: 'HERE' },
    });
    const lane = new Lane<Command, ClientNews, unknown>(NO_LINE_TIMING, side.framing('', 0), clock.now());
    lane.add('HERE', client, clock.now());
    const link = new TcpClient(
      { host: '127.0.0.1', port: this.port, connectTimeoutMs: 1000, reconnectFirstMs: 100, reconnectMaxMs: 300 },
      {
        up: () => driver.start(),
        down: () => driver.stop(),
        data: (octets) => driver.receive(octets),
        changed: () => {},
      },
    );
    const driver = new Driver<LaneCommand<Command>, LaneEffect<ClientNews>>(lane, (effect) => {
      if (effect.type === 'send') void link.send(effect.octets);
      if (effect.type === 'device')
        this.onNews(effect.effect, link, (command) => driver.command({ device: 'HERE', command }));
    });
    this.session = { link, driver, keep: () => client.keep };
    link.open();
  }

  /** Goes without a word; what it has to know it knows the next time. */
  go(): void {
    if (this.session === null) return;
    const { link, driver, keep } = this.session;
    link.close();
    driver.stop();
    driver.close();
    this.remembered = keep();
    this.session = null;
    this.state = 'off';
  }

  private onNews(news: ClientNews, link: TcpClient, command: (command: Command) => void): void {
    switch (news.type) {
      case 'communication':
        this.state = news.state;
        break;
      case 'readings':
        for (const { id, time, event } of news.readings)
          if (event && id !== null && time !== null)
            this.received.push({ point: this.points[id].point, time: Math.round(time), at: clock.now() });
        if (news.token !== null) command({ type: 'committed', token: news.token });
        break;
      case 'hangUp':
        link.drop(news.words);
        break;
      default:
    }
  }
}
