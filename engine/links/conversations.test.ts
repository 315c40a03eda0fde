import { beforeEach, expect, test } from 'vitest';
import type { GuestCommand, GuestNews } from '@halvix/core/protocols';
import { Conversations } from './conversations.ts';

const KEY = 'WAN CMR';
const BEGINS: GuestNews = { type: 'guest', what: 'begins', terms: { octets: 1000, requests: 5 } };
const octets = Uint8Array.of(1);
let shared: Conversations;
let told: string[];
let heard: string[];
const host = (command: GuestCommand): void => void told.push(command.what);
const guest = (news: GuestNews): void => void heard.push(news.what);
beforeEach(() => {
  [shared, told, heard] = [new Conversations(), [], []];
});

test('host and guest find each other, whichever comes first', () => {
  shared.openHost(KEY, host);
  shared.openGuest(KEY, guest);
  shared.closeGuest(KEY);
  shared.closeHost(KEY);
  shared.openGuest(KEY, guest);
  shared.openHost(KEY, host);
  expect(told).toEqual(['comes', 'goes', 'comes']);
});

test('a guest hears, and is heard, while the conversation stands', () => {
  shared.openHost(KEY, host);
  shared.openGuest(KEY, guest);
  shared.say(KEY, octets);
  shared.tell(KEY, { type: 'guest', what: 'hears', octets });
  shared.tell(KEY, BEGINS);
  shared.tell(KEY, { type: 'guest', what: 'hears', octets });
  shared.say(KEY, octets);
  shared.tell(KEY, { type: 'guest', what: 'ends' });
  shared.say(KEY, octets);
  expect(heard).toEqual(['begins', 'hears', 'ends']);
  expect(told).toEqual(['comes', 'says']);
});

test('a host that is made anew ends what stood, once, and has its guest again', () => {
  shared.openGuest(KEY, guest);
  shared.openHost(KEY, host);
  shared.tell(KEY, BEGINS);
  shared.closeHost(KEY);
  shared.closeHost(KEY);
  expect([heard, shared.hasHost(KEY), shared.stands(KEY)]).toEqual([['begins', 'ends'], false, false]);
  shared.openHost(KEY, host);
  shared.tell(KEY, BEGINS);
  expect(heard).toEqual(['begins', 'ends', 'begins']);
});

test('others are not concerned', () => {
  shared.openGuest(KEY, guest);
  shared.openHost('WAN NMK', host);
  shared.tell('WAN NMK', BEGINS);
  expect([told, heard]).toEqual([[], []]);
});
