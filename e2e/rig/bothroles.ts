import type { ClientPoint, Server, ServerEffect, ServerPoint } from '@halvix/core/protocols';
import * as tase2 from '@halvix/core/protocols/tase2';
import { clock, Driver } from '@halvix/wire';
import { clientOn } from '../../scripts/measures/loopback.ts';

/** A centre that calls a port, and is client and server in the association that it makes. */
export class BothRoles {
  /** The newest value of what it sees. */
  last: number | null = null;
  quality = 0;
  readonly close: () => void;
  private readonly server: Driver<Parameters<Server<tase2.TaseTargetAt>['command']>[0], ServerEffect>;

  constructor(
    port: number,
    own: {
      client: object;
      list: ClientPoint<tase2.TaseAt>[];
      server: object;
      offers: ServerPoint<tase2.TaseTargetAt>[];
    },
  ) {
    const client = new tase2.TaseClient(tase2.clientSettings.parse(own.client), clock.now(), {
      ...{ octetMs: 0, remembered: null, points: own.list, phase: 1 },
    });
    const server = new tase2.TaseServer(tase2.serverSettings.parse(own.server), own.offers, clock.now());
    const PEER = 1;
    this.server = new Driver(server, (effect) => {
      if (effect.type === 'send') speaking.command({ type: 'guest', what: 'says', octets: effect.octets });
    });
    const speaking = clientOn(port, client as never, (news) => {
      const newest = news.type === 'readings' ? news.readings.at(-1) : undefined;
      if (newest) [this.last, this.quality] = [newest.raw, newest.quality];
      if (news.type !== 'guest') return;
      if (news.what === 'begins') this.server.command({ type: 'came', peer: PEER, within: news.terms });
      else if (news.what === 'hears') this.server.command({ type: 'octets', peer: PEER, octets: news.octets });
      else this.server.command({ type: 'went', peer: PEER });
    });
    speaking.command({ type: 'guest', what: 'comes' });
    this.close = () => {
      speaking.close();
      this.server.close();
    };
    this.offer = own.offers[0];
  }
  private readonly offer: ServerPoint<tase2.TaseTargetAt>;

  /** The first of what it offers changes. */
  update(value: number): void {
    const { kind, at } = this.offer;
    this.server.command({ type: 'update', updates: [{ kind, at, value, quality: 0, time: clock.now() }] });
  }
}
