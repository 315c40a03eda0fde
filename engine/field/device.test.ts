import { configurationSchema, type DeviceConfig, type LinkConfig } from '@halvix/core/config';
import { Quality } from '@halvix/core/point';
import type { Carrying, ClientNews, Measured } from '@halvix/core/protocols';
import { afterEach, beforeEach, describe, expect, test, vi } from 'vitest';
import { Exchange } from '../board/exchange.ts';
import { Contributions } from '../handon/contributions.ts';
import { Journal } from '../journal.ts';
import { Conversations } from '../links/conversations.ts';
import type { DeviceLink, LinkMember } from '../links/link.ts';
import type { Entry, Historian } from '../store/historian.ts';
import { DeviceRunner } from './device.ts';

/* One device on a link that is none: what its session says, and what becomes of it. */

// eslint-disable-next-line @typescript-eslint/no-explicit-any
const configured = (change: (device: any) => void = () => {}): { device: DeviceConfig; link: LinkConfig } => {
  const device = {
    ...{ code: 'D', name: 'relay', station: 'S', link: 'L', protocol: 'dnp3' },
    settings: { ourAddress: 1, theirAddress: 2 },
    points: [0, 1].map((index) => ({ kind: 'analog', at: { protocol: 'dnp3', index }, name: `level ${index}` })),
  };
  change(device);
  const document = configurationSchema.parse({
    ...{ schema: 'halvix.configuration', version: 3, network: 'test', stations: [], outbounds: [], devices: [device] },
    links: [{ code: 'L', name: 'link', type: 'tcpClient', protocol: 'dnp3' }],
  });
  return { device: document.devices[0], link: document.links[0] };
};
/** Far from today: the clock does not run backwards, and would stay where it is once this is over. */
const NOON = Date.UTC(2096, 10, 29, 12);
const CARRIED: Carrying = {
  words: () => 'a message',
  form: () => '',
  said: () => null,
  frames: () => [],
  address: () => 'AI 9',
};
const measured = (id: number, raw: number, more: Partial<Measured> = {}): Measured => ({
  ...{ id, kind: 'analog', raw, quality: 0, time: Date.now(), timeSource: 'device', event: true },
  ...more,
});

let exchange: Exchange;
let journal: Journal;
let entries: Entry[];
let commands: { type: string; settings?: object; id?: string }[];
let member: LinkMember;
let isUp: boolean;
let runner: DeviceRunner;
let conversations: Conversations;
let linkConfig: LinkConfig;
let steps: string[];
const say = (news: ClientNews): void => member.onEffect(news);
const words = (): string[] => journal.take().map((entry) => entry.words);
const readings = (all: Measured[], token: number | null = null, keep: Uint8Array | null = null): void =>
  say({ type: 'readings', readings: all, carried: CARRIED, token, keep });

beforeEach(() => {
  vi.useFakeTimers({ now: NOON });
  [exchange, journal, entries, commands, isUp] = [new Exchange(), new Journal(), [], [], true];
  const { device, link } = configured();
  [linkConfig, steps] = [link, []];
  exchange.setDevice(device, (address) => Number(address.split(' ')[1]) + 1);
  const fake = {
    ...{ config: link, isGuest: false, fits: () => true, isEmpty: false },
    attach: (one: LinkMember) => (member = one),
    detach: () => {},
    command: (_code: string, command: (typeof commands)[number]) => commands.push(command),
    isUp: () => isUp,
  } as unknown as DeviceLink;
  runner = new DeviceRunner(device, fake, null, {
    ...{ exchange, journal, conversations: (conversations = new Conversations()), changed: () => {} },
    onControl: ({ step }) => steps.push(step),
    contributions: new Contributions(() => {}),
    historian: { add: (entry: Entry) => entries.push(entry) } as unknown as Historian,
  });
  runner.start();
});
afterEach(() => {
  runner.stop();
  vi.useRealTimers();
});

describe('what a session says', () => {
  test('becomes a state, with how long it holds; silence marks the points and is written down', () => {
    expect(runner.standing().failed).toBeNull();
    say({ type: 'communication', state: 'answering', words: 'answers' });
    expect([runner.standing().failed, words()]).toEqual([false, []]);
    readings([measured(1, 5)]);
    vi.advanceTimersByTime(1000);
    say({ type: 'communication', state: 'silent', words: 'no answer to 3 requests' });
    expect(runner.standing()).toEqual({ failed: true, since: NOON + 1000 });
    expect(words()).toEqual(['no communication: no answer to 3 requests']);
    expect(exchange.get(1)?.reading).toMatchObject({ value: 5, quality: Quality.commLost });
    say({ type: 'communication', state: 'answering', words: 'answers' });
    expect(words()).toEqual(['answers again']);
  });

  test('goes into history: what may be dropped, what a device keeps, what waits for nobody', () => {
    readings([measured(1, 5, { event: false })]);
    readings([measured(1, 6)], 7, Uint8Array.of(1));
    readings([measured(1, 7)]);
    readings([measured(1, 8)], null, Uint8Array.of(2));
    expect(entries.map(({ mayDrop, confirms, keep }) => [mayDrop, confirms, keep?.[0] ?? null])).toEqual([
      [true, false, null],
      [false, true, 1],
      [false, false, null],
      [false, false, 2],
    ]);
    entries[1].stored(NOON, 1);
    expect(commands).toEqual([{ type: 'committed', token: 7 }]);
    entries[3].stored(NOON, 1);
    expect(commands).toHaveLength(1);
  });

  test('and is stored after its end is no word for the session that goes on in its place', () => {
    readings([measured(1, 6)], 1, Uint8Array.of(1));
    runner.stop();
    entries[0].stored(NOON, 1);
    expect(commands).toEqual([]);
  });

  test('of a backlog is worth a word, once', () => {
    for (const behind of [3_600_000, 3_500_000]) readings([measured(1, 1, { time: NOON - behind })]);
    expect(words()).toEqual(['hands over what it kept since 2096-11-29T11:00:00Z']);
  });

  test('of its clock is told when it is off and when it is right again, and remembered', () => {
    const clock = (offsetMs: number): void => say({ type: 'clock', offsetMs, uncertaintyMs: 20 });
    clock(500);
    clock(2500);
    clock(2600);
    clock(-3000);
    clock(10);
    expect(words()).toEqual(['its clock is 2.5 s ahead of ours', 'its clock is right again']);
    expect(runner.deviceState().clockPast.map(({ offsetMs }) => offsetMs)).toEqual([500, 2500, 2600, -3000, 10]);
    // By no more than its uncertainty beyond a second.
    clock(1020);
    expect(words()).toEqual([]);
    clock(-1021);
    expect(words()).toEqual(['its clock is 1.0 s behind ours']);
    for (let n = 0; n < 200; n++) clock(n);
    expect(runner.deviceState().clockPast).toHaveLength(120);
    expect(runner.deviceState().clock).toMatchObject({ offsetMs: 199, at: NOON });
  });

  test('of points that cannot be had marks them alone, and says it of each', () => {
    say({ type: 'communication', state: 'answering', words: '' });
    readings([measured(1, 5), measured(2, 6)]);
    say({ type: 'unreadable', points: [2], words: 'AI 1 is refused' });
    expect([exchange.get(1)?.reading?.quality, exchange.get(2)?.reading?.quality]).toEqual([0, Quality.offline]);
    expect([runner.pointStanding('AI 0')?.failed, runner.pointStanding('AI 1')?.failed]).toEqual([false, true]);
    expect([runner.pointStanding('AI 7'), words()]).toEqual([null, ['AI 1 is refused']]);
    const since = runner.pointStanding('AI 1')?.since;
    vi.advanceTimersByTime(1000);
    // Said again it is no other state, and one that comes does not begin the others anew.
    say({ type: 'unreadable', points: [2, 1], words: '' });
    expect(runner.pointStanding('AI 1')).toEqual({ failed: true, since });
    expect(runner.pointStanding('AI 0')).toEqual({ failed: true, since: NOON + 1000 });
    vi.advanceTimersByTime(1000);
    say({ type: 'unreadable', points: [], words: '' });
    expect([runner.pointStanding('AI 0'), runner.pointStanding('AI 1')]).toEqual(
      [1, 2].map(() => ({ failed: false, since: NOON + 2000 })),
    );
  });

  test('of no connection is not said any more once there is one', () => {
    isUp = false;
    say({ type: 'communication', state: 'silent', words: 'no connection' });
    expect(runner.deviceState()).toMatchObject({ state: 'silent', words: 'no connection' });
    isUp = true;
    expect(runner.deviceState()).toMatchObject({ state: 'silent', words: 'connected, and no answer yet' });
    say({ type: 'communication', state: 'silent', words: 'no answer to 3 requests' });
    expect(runner.deviceState().words).toBe('no answer to 3 requests');
  });

  test('and who answers in its place are in its state', () => {
    say({ type: 'stranger', address: 9, destination: 1 });
    say({ type: 'answered', roundTripMs: 42 });
    readings([measured(1, 5), { ...measured(1, 5), id: null }]);
    expect(runner.deviceState()).toMatchObject({
      ...{ stranger: { address: 9, destination: 1, at: NOON }, lastGood: NOON, roundTripMs: 42 },
      ...{ unlisted: 1, unlistedPoints: [{ kind: 'analog', address: 'AI 9' }] },
    });
    say({ type: 'noted', words: 'by the way' });
    say({ type: 'diagnostic', words: 'odd' });
    expect(words()).toEqual(['by the way', 'odd']);
  });
});

/** The device has answered what it was asked last. */
const answerLast = (problem: string | null, answer: object = {}): void => {
  const last = commands.at(-1);
  expect(last?.type).toBe('order');
  say({ type: 'ordered', id: last?.id ?? '', problem, answer });
};
const ofLink = (more: Partial<LinkConfig['calls']>): void => void Object.assign(linkConfig.calls, more);

describe('what is asked of it', () => {
  test('is written down with who asked, and what came of it', () => {
    const restart = { what: 'restart', how: 'cold' };
    runner.order(restart, 'anna');
    answerLast(null, { awayMs: 5000, words: 'it begins anew' });
    say({ type: 'ordered', id: 'nobody asked', problem: null, answer: {} });
    expect(words()).toEqual(['restart, asked by anna: done; away for 5000 ms: it begins anew']);
    runner.order(restart, 'bert');
    answerLast(null);
    expect(words()).toEqual(['restart, asked by bert: done']);
    runner.order(restart, 'bert');
    answerLast('refused', { words: 'not now' });
    expect(journal.take()).toMatchObject([{ tone: 'warning', words: 'restart, asked by bert: refused' }]);
  });

  test('for who waits is written down where it changes the device, and only there', async () => {
    const changes = runner.inquire({ what: 'restart', how: 'warm' }, 'anna');
    answerLast(null, { words: 'away for a moment' });
    expect((await changes).answer).toEqual({ words: 'away for a moment' });
    expect(journal.take()).toMatchObject([
      { tone: 'plain', words: expect.stringMatching(/, asked by anna: away for a moment$/) as string },
    ]);
    const refused = runner.inquire({ what: 'restart', how: 'warm' }, 'anna');
    answerLast('refused', { words: 'away for a moment' });
    await refused;
    expect(journal.take()).toMatchObject([{ tone: 'warning', words: expect.stringMatching(/: refused$/) as string }]);
    const looks = runner.inquire({ what: 'attributes' }, 'anna');
    if (commands.at(-1)?.type === 'order') answerLast(null);
    await looks;
    expect(words()).toEqual([]);
  });

  test('to the centre that is asked in its conversation is handed on to it', () => {
    const told = vi.spyOn(conversations, 'tell');
    const hears = { type: 'guest', what: 'hears', octets: Uint8Array.of(1) } as const;
    say(hears);
    expect(told.mock.calls).toEqual([[expect.stringContaining('D'), hears]]);
  });

  test('of a file is told as it goes on', async () => {
    const heard: number[] = [];
    const file = runner.askFile({ what: 'readFile', name: 'x' } as never, (octets) => heard.push(octets));
    const id = commands.at(-1)?.id ?? '';
    for (const octets of [10, 20]) say({ type: 'fileProgress', id, octets });
    say({ type: 'fileProgress', id: 'another', octets: 5 });
    answerLast(null, { words: 'x' });
    expect([heard, await file]).toEqual([[10, 20], { problem: null, answer: { words: 'x' } }]);
  });

  test('by people who operate goes to its session, and what becomes of it to them', () => {
    runner.control({ type: 'control', id: 'c' } as never);
    runner.resetCounters();
    expect(commands.map(({ type }) => type)).toEqual(['control', 'resetCounters']);
    say({ type: 'control', id: 'c', step: 'operated' } as never);
    expect(steps).toEqual(['operated']);
  });
});

describe('between calls', () => {
  test('a device is not lost, but resting; one that never rests is what it is', () => {
    say({ type: 'communication', state: 'answering', words: 'answers' });
    isUp = false;
    expect(runner.deviceState()).toMatchObject({ state: 'answering', words: 'answers' });
    ofLink({ lateAfterMs: 5000 });
    expect(runner.deviceState()).toMatchObject({ state: 'resting', words: 'between calls' });
    expect([runner.standing().failed, runner.essence()]).toEqual([false, `resting ${NOON} between calls`]);
    isUp = true;
    expect(runner.deviceState().state).toBe('answering');
    isUp = false;
    ofLink({ lateAfterMs: 0, when: 'onDemand' });
    expect(runner.deviceState().state).toBe('resting');
    say({ type: 'communication', state: 'silent', words: 'late' });
    expect(runner.deviceState().state).toBe('silent');
  });
});

describe('what was asked before', () => {
  test('is answered to who asked; an end of the session is an answer too', async () => {
    const surveyed = runner.survey('s1');
    say({ type: 'surveyed', id: 's1', problem: null, found: [], attributes: [] });
    expect(await surveyed).toMatchObject({ problem: null });
    const asked = runner.inquire({ what: 'restart', how: 'cold' }, 'anna');
    answerLast('refused');
    expect((await asked).problem).toBe('refused');
    expect(await runner.inquire({ nonsense: true }, 'anna')).toMatchObject({ problem: 'D cannot be asked that' });
    const file = runner.askFile({ type: 'readFile', name: 'x' } as never, () => {});
    runner.stop();
    expect((await file).problem).toBe('the session was ended before it was done');
  });

  test('what is no order is refused in words', () => {
    runner.order({ nonsense: true }, 'anna');
    expect([commands, words()]).toEqual([[], ['it cannot be asked that by anna']]);
  });
});

describe('another configuration', () => {
  test('with other time-outs is adopted without a poll; another list is asked for at once', () => {
    const settings = { ourAddress: 1, theirAddress: 2, retries: 7 };
    runner.adopt(configured((device) => (device.settings = settings)).device);
    expect(commands).toMatchObject([{ type: 'setSettings', settings: { retries: 7 } }]);
    expect(commands[0].settings).not.toHaveProperty('ourAddress');
    commands.length = 0;
    runner.adopt(configured((device) => ((device.settings = settings), device.points.pop())).device);
    expect(commands.map(({ type }) => type)).toEqual(['setPoints', 'pollNow']);
  });
});
