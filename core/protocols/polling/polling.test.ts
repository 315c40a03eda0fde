import { beforeEach, describe, expect, test } from 'vitest';
import type { ControlStep } from '../control.ts';
import { Presence } from './presence.ts';
import { WaitingControls } from './waitingcontrols.ts';

describe('whether a device is there', () => {
  test('is not known, until it answers or its link has been missing for the patience', () => {
    const presence = new Presence(1000, () => 500);
    expect([presence.state, presence.givenUpAt, presence.isSilent]).toEqual(['unknown', 1500, false]);
    expect(presence.answered()).toBe('unknown');
    expect([presence.state, presence.givenUpAt]).toEqual(['answering', null]);
    expect(presence.answered()).toBe('answering');
  });

  test('a link that is lost twice has one patience, from the first time', () => {
    const presence = new Presence(0, () => 500);
    presence.answered();
    presence.linkLost(2000);
    presence.linkLost(2400);
    expect(presence.givenUpAt).toBe(2500);
    presence.answered();
    presence.linkLost(9000);
    expect(presence.givenUpAt).toBe(9500);
  });

  test('given up it is asked again later, says it once, and is no longer given up for its link', () => {
    const presence = new Presence(0, () => 500);
    expect(presence.giveUp(100, 30_000)).toBe(true);
    expect([presence.isSilent, presence.nextProbe, presence.givenUpAt]).toEqual([true, 30_100, null]);
    expect(presence.giveUp(30_100, 30_000)).toBe(false);
    expect(presence.nextProbe).toBe(60_100);
    expect(presence.answered()).toBe('silent');
  });

  test('says why nothing can be sent', () => {
    const presence = new Presence(0, () => 500);
    expect([presence.hindrance(true), presence.hindrance(false)]).toEqual([null, 'no connection to the device']);
    presence.giveUp(0, 1);
    expect(presence.hindrance(true)).toBe('the device does not answer');
  });
});

describe('controls that wait', () => {
  let steps: [string, ControlStep][];
  let controls: WaitingControls<{ id: string; expiresAt: number }>;
  const control = (id: string, expiresAt = 1000): { id: string; expiresAt: number } => ({ id, expiresAt });
  const failed = (words: string): ControlStep => ({ step: 'failed', words });
  beforeEach(() => {
    steps = [];
    controls = new WaitingControls((id, step) => steps.push([id, step]));
  });

  test('come in their order, each once', () => {
    const [a, b] = [control('a'), control('b', 500)];
    controls.add(a, null, 0);
    controls.add(b, null, 0);
    expect([controls.first, controls.size, controls.nextExpiry]).toEqual([a, 2, 500]);
    controls.take(a);
    controls.take(a);
    expect([controls.first, controls.size]).toEqual([b, 1]);
    controls.take(b);
    expect([controls.first, controls.nextExpiry, steps]).toEqual([undefined, Infinity, []]);
  });

  test('end when their time is over, before they are sent', () => {
    controls.add(control('late', 100), null, 100);
    controls.add(control('a', 200), null, 100);
    controls.add(control('b', 201), null, 100);
    controls.expire(200);
    const expired = { step: 'expired', words: 'it had expired before it was sent' };
    expect([steps, controls.size]).toEqual([
      [
        ['late', expired],
        ['a', expired],
      ],
      1,
    ]);
  });

  test('fail at once when nothing can be sent, or too many wait, and together when all is given up', () => {
    controls.add(control('no'), 'no connection to the device', 0);
    for (let n = 0; n < 33; n++) controls.add(control(`c${n}`), null, 0);
    expect(steps).toEqual([
      ['no', failed('no connection to the device; nothing was sent')],
      ['c32', failed('32 controls wait already; nothing was sent')],
    ]);
    controls.failAll('the link was lost before it was sent');
    expect([steps.length, steps.at(-1), controls.size]).toEqual([
      34,
      ['c31', failed('the link was lost before it was sent')],
      0,
    ]);
  });
});
