import { expect, test } from 'vitest';
import { lineUse, roundMs } from './lane.ts';

const turn = (began: number, ended: number, sendingMs: number, receivingMs: number) => ({
  device: 'A',
  words: 'events 1, 2',
  began,
  ended,
  sendingMs,
  receivingMs,
  waitingMs: ended - began - sendingMs - receivingMs,
  outcome: 'answered' as const,
});
const lane = {
  at: 2000,
  since: 1000,
  turns: 2,
  sendingMs: 0,
  receivingMs: 0,
  waitingMs: 0,
  turningMs: 100,
  otherFrames: 0,
  badFrames: 0,
  bitRate: 9600,
  devices: {
    A: { cycleMs: 400, turns: 2, silentTurns: 0, lineMs: 0 },
    B: { cycleMs: null, turns: 0, silentTurns: 0, lineMs: 0 },
  },
  queue: [],
  strip: [turn(1000, 1200, 50, 100), turn(1500, 1600, 50, 50)],
};

test('shares of the line over the turns that are known', () => {
  expect(lineUse(lane)).toEqual({
    sending: 0.1,
    receiving: 0.15,
    waiting: 0.05,
    turning: 0.1,
    idle: expect.closeTo(0.6),
    overMs: 1000,
  });
  expect(roundMs(lane)).toBe(400);
});

test('a line on which nothing happened is idle', () => {
  expect(lineUse({ ...lane, strip: [] }).idle).toBe(1);
  expect(roundMs({ ...lane, devices: {} })).toBeNull();
});
