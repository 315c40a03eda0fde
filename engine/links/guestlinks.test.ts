import { beforeEach, describe, expect, test } from 'vitest';
import { OBJECT_SCHEMAS, type LinkConfig, type OutboundConfig } from '@halvix/core/config';
import type { GuestCommand } from '@halvix/core/protocols';
import { clientSettings, serverSettings, TaseClient, TaseServer } from '@halvix/core/protocols/tase2';
import { clock } from '@halvix/wire';
import { conversationKey, Conversations } from './conversations.ts';
import { GuestDeviceLink, GuestOutboundLink } from './guestlinks.ts';
import type { OutboundMember } from './outboundlink.ts';

const link = (type: 'tcpClient' | 'tcpServer'): LinkConfig =>
  OBJECT_SCHEMAS.link.parse({ code: 'WAN', name: 'line', type, protocol: 'tase2', port: 10_301, host: '10.1.0.7' });
const KEY = conversationKey('WAN', 'CMR');
const terms = { octets: 8000, requests: 4 };

let conversations: Conversations;
let toHost: GuestCommand[];
const host = (command: GuestCommand): void => void toHost.push(command);
beforeEach(() => {
  [conversations, toHost] = [new Conversations(), []];
});

describe('a centre that is asked in what we have made with its device', () => {
  let events: string[];
  const member = (): OutboundMember => ({
    config: { code: 'CMC', partner: 'CMR' } as OutboundConfig,
    up: (peer, from, address, within) => void events.push(`up ${peer} ${from} ${address} ${within?.octets}`),
    down: (peer) => void events.push(`down ${peer}`),
    data: (peer, octets) => void events.push(`data ${peer} ${octets.join()}`),
    refused: (words) => void events.push(words),
    changed: () => {},
  });
  beforeEach(() => {
    events = [];
  });

  test('comes, hears, is heard and goes with the conversation', () => {
    const guests = new GuestOutboundLink(link('tcpClient'), conversations);
    const one = member();
    guests.add(one);
    expect(guests.problem).toBe('device CMR, in whose conversation it is, is not in service');
    conversations.openHost(KEY, host);
    expect(guests.problem).toBeNull();
    guests.send(one, Uint8Array.of(9));
    conversations.tell(KEY, { type: 'guest', what: 'begins', terms });
    conversations.tell(KEY, { type: 'guest', what: 'hears', octets: Uint8Array.of(1, 2) });
    guests.send(one, Uint8Array.of(3));
    guests.remove(one);
    expect(events).toEqual(['up 1 10.1.0.7:10301 null 8000', 'data 1 1,2', 'down 1']);
    expect(toHost).toMatchObject([{ what: 'comes' }, { what: 'says', octets: Uint8Array.of(3) }, { what: 'goes' }]);
    expect(guests.isEmpty).toBe(true);
  });

  test('that hangs up leaves, and comes again', async () => {
    const guests = new GuestOutboundLink(link('tcpClient'), conversations);
    conversations.openHost(KEY, host);
    const one = member();
    guests.add(one);
    conversations.tell(KEY, { type: 'guest', what: 'begins', terms });
    guests.hangUp(one);
    expect(events.at(-1)).toBe('down 1');
    expect(toHost.map(({ what }) => what)).toEqual(['comes', 'goes', 'comes']);
    await guests.close();
    expect(guests.isEmpty).toBe(true);
    expect([guests.fits(link('tcpClient')), guests.fits(link('tcpServer'))]).toEqual([true, false]);
  });
});

describe('a device that is asked in what it has made with us', () => {
  test('associates with nobody, and talks to the server behind it', () => {
    const guests = new GuestDeviceLink(link('tcpServer'), conversations);
    // Its own server, at the other end of the conversation.
    const server = new TaseServer(serverSettings.parse({ domain: 'CMR' }), [], clock.now());
    const states: string[] = [];
    const client = new TaseClient(clientSettings.parse({ domain: 'CMR' }), clock.now(), {
      ...{ octetMs: 0, remembered: null, points: [], phase: 1, within: guests.within('CMR') },
    });
    conversations.openHost(KEY, (command) => {
      toHost.push(command);
      if (command.what !== 'says') return;
      server.command({ type: 'octets', peer: 5, octets: command.octets }, clock.now());
      for (const effect of server.take())
        if (effect.type === 'send') conversations.tell(KEY, { type: 'guest', what: 'hears', octets: effect.octets });
    });
    guests.attach({
      ...{ code: 'CMR', settings: {} as never, client: client as never },
      onEffect: (effect) => effect.type === 'communication' && states.push(effect.state),
    });
    guests.start();
    expect([guests.isUp('CMR'), guests.isEmpty, guests.isGuest]).toEqual([false, false, true]);
    server.command({ type: 'came', peer: 5, within: terms }, clock.now());
    server.take();
    conversations.tell(KEY, { type: 'guest', what: 'begins', terms });
    expect(guests.isUp('CMR')).toBe(true);
    expect(states).toEqual(['answering']);
    // No layer below: the first octets are of a request itself.
    const said = toHost.flatMap((one) => (one.what === 'says' ? [one.octets[0]] : []));
    expect(new Set(said)).toEqual(new Set([0xa0]));
    conversations.tell(KEY, { type: 'guest', what: 'ends' });
    expect(guests.isUp('CMR')).toBe(false);
    guests.detach('CMR');
    expect([guests.isEmpty, toHost.at(-1)?.what]).toEqual([true, 'goes']);
  });

  test('is let go with its link', async () => {
    const guests = new GuestDeviceLink(link('tcpServer'), conversations);
    const client = new TaseClient(clientSettings.parse({ domain: 'CMR' }), clock.now(), {
      ...{ octetMs: 0, remembered: null, points: [], phase: 1, within: guests.within('CMR') },
    });
    conversations.openHost(KEY, host);
    guests.attach({ ...{ code: 'CMR', settings: {} as never, client: client as never }, onEffect: () => {} });
    expect(guests.isEmpty).toBe(false);
    await guests.stop();
    expect([guests.isEmpty, toHost.at(-1)?.what]).toEqual([true, 'goes']);
  });
});
