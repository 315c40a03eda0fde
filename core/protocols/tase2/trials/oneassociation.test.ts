import { beforeEach, describe, expect, test } from 'vitest';
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

class Two {
  now = Date.UTC(2026, 10, 27, 6);
  terms: ConversationTerms = { octets: 0, requests: 0 };
  readonly west;
  readonly east;
  readonly news: { west: ClientNews[]; east: ClientNews[] } = { west: [], east: [] };
  readonly controls: { west: ServerEffect[]; east: ServerEffect[] } = { west: [], east: [] };
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
        west.client.receiveEvent(effect.octets, now);
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

let two: Two;
beforeEach(() => {
  two = new Two().connect();
});
const states = (side: 'west' | 'east'): string[] =>
  two.news[side].flatMap((one) => (one.type === 'communication' ? [one.state] : []));

describe('two centres over one association', () => {
  test('each sees what the other one offers, and its changes', () => {
    expect(two.west.client.ways).toEqual({ reported: 1, polled: 0 });
    expect(two.east.client.ways).toEqual({ reported: 1, polled: 0 });
    two.update('west', 17);
    two.update('east', 23);
    expect([two.last('east'), two.last('west')]).toEqual([17, 23]);
    // One association was asked for, and neither end had anything that it did not expect.
    expect(two.east.server.counters.values.associations).toBe(1);
    for (const { counters } of [two.west.client, two.west.server, two.east.client, two.east.server])
      expect(counters.values.odd).toBe(0);
  });

  test('each operates at the other one, once', () => {
    two.control('west', 'EAST');
    two.control('east', 'WEST');
    expect([two.controls.east.length, two.controls.west.length]).toEqual([1, 1]);
    for (const side of ['west', 'east'] as const)
      expect(
        two.news[side]
          .filter((one) => one.type === 'control')
          .map(({ step }) => step)
          .at(-1),
      ).toBe('operated');
  });

  test('acknowledgements of critical reports get to the end that sent them, in both directions', () => {
    two = new Two(true).connect();
    two.update('west', 5);
    two.update('east', 6);
    const before = two.sent.length;
    two.run(30_000);
    // Nothing is repeated: only the question whether the other end is there.
    const values = two.news.west.concat(two.news.east).filter(({ type }) => type === 'readings').length;
    two.run(30_000);
    expect(two.news.west.concat(two.news.east).filter(({ type }) => type === 'readings')).toHaveLength(values);
    expect(two.sent.length).toBeGreaterThan(before);
    expect([two.last('east'), two.last('west')]).toEqual([5, 6]);
  });

  test('with the connection both are lost, and both come back by themselves', () => {
    two.cut().run(20_000);
    expect([states('west').at(-1), states('east').at(-1)]).toEqual(['silent', 'silent']);
    two.connect().run(1000);
    expect([states('west').at(-1), states('east').at(-1)]).toEqual(['answering', 'answering']);
    two.update('west', 3);
    two.update('east', 4);
    expect([two.last('east'), two.last('west')]).toEqual([3, 4]);
  });

  test('a guest that goes leaves the host as it is: nobody is there to be asked', () => {
    two.west.client.command({ type: 'guest', what: 'goes' }, two.now);
    two.west.server.command({ type: 'went', peer: 1 }, two.now);
    two.update('east', 9);
    expect(two.last('west')).toBe(9);
    // What the other end still asks is rejected, and in the end it gives up asking, not the association.
    two.run(60_000);
    expect(two.west.client.counters.values.odd).toBeGreaterThan(0);
    two.west.client.command({ type: 'guest', what: 'comes' }, two.now);
    two.run(1000);
    expect(two.news.west.filter((one) => one.type === 'guest' && one.what === 'begins')).toHaveLength(2);
  });
});
