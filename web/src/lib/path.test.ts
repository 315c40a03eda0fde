import { describe, expect, test } from 'vitest';
import { Quality } from '@halvix/core/point';
import { age, grouped, readingWords, valueWords } from './format.ts';
import {
  devicePath,
  endingCertificates,
  isReached,
  outboundHop,
  standing,
  type DeviceOnPath,
  type OutboundOnPath,
} from './path.ts';
import type { Hops } from './live/topics.ts';

const NOW = 1_000_000;
const DEVICE: DeviceOnPath = {
  code: 'D',
  name: 'Relay',
  station: 'S',
  description: '',
  protocol: 'dnp3',
  where: 'address 11',
  ourAddress: 1,
  theirAddress: 11,
  life: 'inService',
  link: { code: 'L', name: 'LAN', endpoint: 'host:1' },
  outbounds: ['O'],
};
const OUTBOUND: OutboundOnPath = {
  code: 'O',
  name: 'centre',
  centre: 'Centre',
  way: 'port 1',
  link: 'O',
  protocol: 'dnp3',
  ourAddress: 10,
  theirAddress: 100,
  mapped: 80,
};

function hops(
  over: { link?: object; device?: object; outbound?: object; engineAge?: number; engine?: object } = {},
): Hops {
  const counters = { counters: {}, countersSince: 0 };
  return {
    links: {
      L: {
        state: 'connected',
        since: 0,
        endpoint: 'host:1',
        tries: 0,
        nextTry: null,
        problem: null,
        certificateEnds: null,
        devices: ['D'],
        ...over.link,
      },
    },
    devices: {
      D: {
        state: 'answering',
        since: 0,
        words: 'answers',
        lastGood: NOW - 400,
        roundTripMs: 5,
        lastCommit: NOW,
        nextIntegrity: null,
        indications: [],
        clock: null,
        clockPast: [],
        learned: null,
        stranger: null,
        unlisted: 0,
        unlistedPoints: [],
        playing: [],
        ...counters,
        ...over.device,
      },
    },
    outbounds: {
      O: {
        state: 'listening',
        since: 0,
        problem: null,
        connectedFrom: 'x',
        connectionSince: 0,
        isQuiet: false,
        pushes: false,
        lastHeard: NOW - 100,
        lastConfirmed: NOW - 300,
        eventsWaiting: 0,
        connectionsRefused: 0,
        lastProblem: null,
        ...counters,
        ...over.outbound,
      },
    },
    engines: {
      e: {
        startedAt: 0,
        revision: 1,
        readingsPerSecond: 3,
        queuedReadings: 0,
        droppedReadings: 0,
        refusedReadings: 0,
        historyProblem: null,
        updated: NOW - (over.engineAge ?? 0),
        ...over.engine,
      },
    },
  };
}
const pathOf = (over: Parameters<typeof hops>[0]): ReturnType<typeof devicePath> =>
  devicePath(DEVICE, [OUTBOUND], hops(over), NOW);
const states = (over: Parameters<typeof hops>[0]): string[] => {
  const { device, link, engine, outbounds } = pathOf(over);
  return [device.state, link.state, engine.state, outbounds[0].hop.state];
};

describe('the path breaks where the value stopped', () => {
  test('nowhere', () => {
    expect(states({})).toEqual(['good', 'good', 'good', 'good']);
    expect(isReached(pathOf({}))).toBe(true);
  });
  test('at the device, when the link is up', () =>
    expect(states({ device: { state: 'silent', words: 'no answer' } })).toEqual(['lost', 'good', 'good', 'good']));
  test('at the link', () =>
    expect(states({ link: { state: 'waiting', problem: 'refused', nextTry: NOW + 900 } })).toEqual([
      'unknown',
      'lost',
      'good',
      'good',
    ]));
  test('at the engine, and nothing is known of the rest', () =>
    expect(states({ engineAge: 6000 })).toEqual(['unknown', 'unknown', 'lost', 'unknown']));
  test('at the centre', () => {
    expect(states({ outbound: { connectedFrom: null, eventsWaiting: 7 } })[3]).toBe('idle');
    expect(
      outboundHop(hops({ outbound: { connectedFrom: null, eventsWaiting: 7 } }), 'O', { state: 'good', words: '' }, NOW)
        .words,
    ).toBe('not connected, 7 events wait');
    const pushed = (outbound: object): string =>
      outboundHop(hops({ outbound: { pushes: true, ...outbound } }), 'O', { state: 'good', words: '' }, NOW).words;
    expect(pushed({ lastConfirmed: null, eventsWaiting: 1 })).toBe('nothing has gone out yet, 1 event waits');
    expect(pushed({ lastConfirmed: NOW - 5000 })).toBe('delivered 5.0 s ago');
  });
});

describe('one sentence', () => {
  const sentence = (over: Parameters<typeof hops>[0]): ReturnType<typeof standing> =>
    standing([DEVICE], [OUTBOUND], hops(over), NOW);
  test('all well', () => expect(sentence({})).toEqual({ headline: 'The device answers', advice: null }));
  test('a silent device', () => {
    const { headline, advice } = sentence({ device: { state: 'silent', words: 'no answer to 3 requests' } });
    expect(headline).toBe('The device does not answer');
    expect(advice?.after).toContain('look at the device first');
  });
  test('history that stands still', () => {
    const engine = { historyProblem: 'it has taken nothing for 7 s', queuedReadings: 1200 };
    const { headline, advice } = sentence({ engine });
    expect(headline).toBe('The device answers');
    expect(`${advice?.before}${advice?.subject}${advice?.after}`).toBe(
      'Nothing is written to the history database: it has taken nothing for 7 s. 1200 readings wait, and devices keep their events; present values go on. Look at its disk, and at who holds its tables.',
    );
  });
  test('a stopped engine', () => expect(sentence({ engineAge: 60_000 }).headline).toBe('The engine stopped 60 s ago'));
});

test('numbers, ages and states read as people write them', () => {
  expect(grouped(-8140.25, 1)).toBe('−8\u202f140.3');
  expect(grouped(-0.001, 1)).toBe('0.0');
  expect([400, 12_000, 300_000, 10_000_000].map(age)).toEqual(['0.4 s', '12 s', '5 min', '2 h']);
  expect(valueWords({ gain: 1, offset: 0, states: ['open', 'closed'] }, 1, 1)).toBe('closed');
  expect(valueWords({ gain: 0.01, offset: 0, states: null }, 4999, 49.99)).toBe('49.99');
  const shown = (value: number, quality = 0): string =>
    readingWords({ gain: 1, offset: 0, states: null }, { raw: value, value, quality });
  expect([shown(5), shown(0, Quality.notANumber), shown(Number.MAX_VALUE), shown(-Number.MAX_VALUE)]).toEqual([
    ...['5', '–', '∞', '−∞'],
  ]);
});

test('certificates are told of thirty days before they end, the first first, and when they are over', () => {
  const day = 86_400_000;
  const link = (certificateEnds: number | null): never => ({ ...hops().links.L, certificateEnds }) as never;
  const links = {
    A: link(NOW + 29.5 * day),
    B: link(null),
    C: link(NOW - 1),
    D: link(NOW + 31 * day),
    E: link(NOW + 10),
  };
  expect(endingCertificates({ ...hops(), links }, NOW).map(({ link: code, words }) => `${code} ${words}`)).toEqual([
    'C is over: nobody who checks it connects any more',
    'E ends within a day',
    'A ends in 29 days',
  ]);
});
