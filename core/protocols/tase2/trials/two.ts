import { concat } from '../../../bytes/index.ts';
import type { ClientNews, ClientPoint } from '../../client.ts';
import type { ConversationTerms, GuestNews } from '../../conversation.ts';
import type { ServerEffect } from '../../server.ts';
import { TaseClient } from '../client/client.ts';
import type { TaseAt } from '../points.ts';
import { TaseServer } from '../server/server.ts';
import { clientSettings, serverSettings } from '../settings.ts';
import { at, listed, offered } from './both.ts';

/*
 * Two centres that are client and server of each other over one association. `West` has made it: its client is the host,
 * its server the guest; at `East` it is the other way round.
 */

const PEER = 3;
const OFFERS = [
  offered('analog', 'MW', 'RealQTimeTag'),
  offered('output', 'TRIP', 'Command', { select: true }),
  offered('setpoint', 'LIMIT', 'SetpointReal'),
];
const list = (domain: string): ClientPoint<TaseAt>[] => [
  listed(1, 'analog', `${domain}/MW`),
  listed(2, 'output', `${domain}/TRIP`),
  listed(3, 'setpoint', `${domain}/LIMIT`),
];

export class Two {
  now = Date.UTC(2026, 10, 27, 6);
  terms: ConversationTerms = { octets: 0, requests: 0 };
  readonly west;
  readonly east;
  readonly news: { west: ClientNews[]; east: ClientNews[] } = { west: [], east: [] };
  readonly controls: { west: ServerEffect[]; east: ServerEffect[] } = { west: [], east: [] };
  /** Octets to the west wait until they are asked for: what comes together is one piece. */
  gathers = false;
  private gathered: Uint8Array[] = [];
  /** Octets on the one connection. */
  readonly sent: { octets: Uint8Array; fromWest: boolean }[] = [];
  private up = false;

  constructor(critical = false) {
    const client = (domain: string, within?: () => ConversationTerms): TaseClient =>
      new TaseClient(clientSettings.parse({ domain, critical, integrityMs: 3_600_000 }), this.now, {
        ...{ octetMs: 0, remembered: null, points: list(domain), phase: 1 },
        ...(within === undefined ? {} : { within }),
      });
    const server = (domain: string): TaseServer => new TaseServer(serverSettings.parse({ domain }), OFFERS, this.now);
    this.west = { client: client('EAST'), server: server('WEST') };
    this.east = { client: client('WEST', () => this.terms), server: server('EAST') };
    this.west.client.command({ type: 'guest', what: 'comes' }, this.now);
    this.east.server.command({ type: 'guest', what: 'comes' }, this.now);
  }

  connect(): this {
    this.up = true;
    this.east.server.command({ type: 'came', peer: PEER }, this.now);
    this.west.client.start(this.now);
    return this.run(500);
  }
  cut(): this {
    this.up = false;
    this.west.client.stop(this.now);
    this.east.server.command({ type: 'went', peer: PEER }, this.now);
    return this.run(1);
  }

  run(ms: number): this {
    const end = this.now + ms;
    const all = [this.west.client, this.west.server, this.east.client, this.east.server];
    this.settle();
    for (;;) {
      const next = Math.min(...all.map(({ deadline }) => deadline ?? Infinity));
      if (next > end) break;
      this.now = Math.max(this.now, next);
      for (const one of all) one.wake(this.now);
      this.settle();
    }
    this.now = end;
    return this;
  }

  private settle(): void {
    this.pump();
    while (this.gathered.length > 0) {
      this.west.client.receiveEvent(concat(this.gathered.splice(0)), this.now);
      this.pump();
    }
  }
  private pump(): void {
    for (let busy = true; busy;) {
      busy = false;
      for (const side of ['west', 'east'] as const) {
        for (const effect of this[side].client.take()) {
          busy = true;
          this.onClient(side, effect);
        }
        for (const effect of this[side].server.take()) {
          busy = true;
          this.onServer(side, effect);
        }
      }
    }
  }

  private onClient(side: 'west' | 'east', effect: ClientNews | { type: 'send'; octets: Uint8Array }): void {
    const { east, now } = this;
    if (effect.type === 'send') {
      if (side === 'east') east.server.command({ type: 'guest', what: 'says', octets: effect.octets }, now);
      else if (this.up) {
        this.sent.push({ octets: effect.octets, fromWest: true });
        east.server.command({ type: 'octets', peer: PEER, octets: effect.octets }, now);
      }
      return;
    }
    this.news[side].push(effect);
    if (effect.type === 'guest') this.toWestServer(effect);
    if (effect.type === 'readings' && effect.token !== null)
      this[side].client.command({ type: 'committed', token: effect.token }, now);
  }

  private toWestServer(news: GuestNews): void {
    const { server } = this.west;
    if (news.what === 'begins') server.command({ type: 'came', peer: 1, within: news.terms }, this.now);
    else if (news.what === 'hears') server.command({ type: 'octets', peer: 1, octets: news.octets }, this.now);
    else server.command({ type: 'went', peer: 1 }, this.now);
  }

  private onServer(side: 'west' | 'east', effect: ServerEffect): void {
    const { west, east, now } = this;
    if (effect.type === 'send') {
      if (side === 'west') west.client.command({ type: 'guest', what: 'says', octets: effect.octets }, now);
      else if (this.up) {
        this.sent.push({ octets: effect.octets, fromWest: false });
        if (this.gathers) this.gathered.push(effect.octets);
        else west.client.receiveEvent(effect.octets, now);
      }
    }
    if (effect.type === 'guest') {
      if (effect.what === 'begins') {
        this.terms = effect.terms;
        east.client.start(now);
      } else if (effect.what === 'hears') east.client.receiveEvent(effect.octets, now);
      else east.client.stop(now);
    }
    if (effect.type === 'control') {
      this.controls[side].push(effect);
      const { token, items } = effect;
      const outcomes = items.map(() => ({ result: 'done' as const, status: null, protocol: null }));
      this[side].server.command({ type: 'controlResult', token, outcomes }, now);
    }
  }

  update(side: 'west' | 'east', value: number): void {
    const point = OFFERS[0];
    const update = { kind: point.kind, at: point.at, value, quality: 0, time: this.now };
    this[side].server.command({ type: 'update', updates: [update] }, this.now);
    this.run(100);
  }
  last(side: 'west' | 'east'): number | undefined {
    const readings = this.news[side].flatMap((one) => (one.type === 'readings' ? one.readings : []));
    return readings.filter(({ id }) => id === 1).at(-1)?.raw;
  }
  control(side: 'west' | 'east', domain: string): void {
    this[side].client.command(
      {
        ...{ type: 'control', id: 'c1', kind: 'output', at: at(`${domain}/TRIP`), mode: 'selectOperate' },
        ...{ operation: 'trip', counts: null, onMs: 0, offMs: 0, count: 1, expiresAt: this.now + 30_000 },
      },
      this.now,
    );
    this.run(200);
  }
}
