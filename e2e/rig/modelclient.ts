import { Lane, NO_LINE_TIMING, type LaneCommand, type LaneEffect } from '@halvix/core/line';
import type { PointKind } from '@halvix/core/point';
import type { ClientCommand, ClientNews } from '@halvix/core/protocols';
import { clientSettings, iecAt, IecClient, type IecAt } from '@halvix/core/protocols/iec61850';
import { clock, Driver, TcpClient, type TlsFiles } from '@halvix/wire';

type Command = ClientCommand<IecAt, never>;

/** A client of a model on a port, with a list of its own: keeps the latest of each point, and how it came. */
export class ModelClient {
  readonly latest = new Map<string, { raw: number; event: boolean; quality: number }>();
  state = 'unknown';
  private readonly driver: Driver<LaneCommand<Command>, LaneEffect<ClientNews>>;
  private readonly link: TcpClient;

  constructor(port: number, list: readonly (readonly [PointKind, string])[], settings: object, tls?: TlsFiles) {
    const now = clock.now();
    const points = list.map(([kind, reference], id) => ({ id, kind, at: iecAt(reference) }));
    const client = new IecClient(clientSettings.parse(settings), now, {
      ...{ octetMs: 0, remembered: null, points, phase: 1 },
    });
    const framing = { gapMs: 0, reset: () => {}, push: (octets: Uint8Array) => [octets], isFrame: () => true };
    const lane = new Lane<Command, ClientNews, Uint8Array>(NO_LINE_TIMING, framing, now);
    lane.add('D', client as never, now);
    this.driver = new Driver(lane, (effect) => {
      if (effect.type === 'send') this.link.send(effect.octets);
      if (effect.type !== 'device') return;
      const news = effect.effect;
      if (news.type === 'communication') this.state = news.state;
      if (news.type !== 'readings') return;
      for (const { id, raw, event, quality } of news.readings)
        if (id !== null) this.latest.set(list[id][1], { raw, event, quality });
    });
    this.link = new TcpClient(
      {
        host: '127.0.0.1',
        port,
        connectTimeoutMs: 2000,
        reconnectFirstMs: 100,
        reconnectMaxMs: 500,
        ...(tls ? { tls } : {}),
      },
      {
        up: () => this.driver.start(),
        down: () => this.driver.stop(),
        data: (octets) => this.driver.receive(octets),
        changed: () => {},
      },
    );
    this.link.open();
  }

  close(): void {
    this.link.close();
    this.driver.stop();
    this.driver.close();
  }
}
