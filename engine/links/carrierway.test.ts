import { afterEach, beforeEach, expect, test, vi } from 'vitest';
import type { Carrier } from '../carriers/index.ts';
import { CarrierWay } from './carrierway.ts';
import type { OutboundMember } from './outboundlink.ts';

let said: string[];
let answers: { good: () => void; bad: (error: Error) => void }[];
let closed: number;
let way: CarrierWay;
let member: OutboundMember;

beforeEach(() => {
  vi.useFakeTimers({ now: Date.UTC(2096, 0, 1) });
  [said, answers, closed] = [[], [], 0];
  const carrier: Carrier = {
    where: 'file x',
    carry: () => new Promise((good, bad) => answers.push({ good, bad })),
    close: async () => void closed++,
  };
  way = new CarrierWay(carrier);
  member = {
    config: {} as never,
    up: (peer, from) => said.push(`up ${peer} ${from}`),
    down: (peer) => said.push(`down ${peer}`),
    data: () => said.push('data'),
    refused: (words) => said.push(words),
    carried: (packet, problem) => said.push(`packet ${packet}: ${problem ?? 'carried'}`),
    changed: () => said.push(`problem: ${way.problem ?? 'none'}`),
  };
});
afterEach(async () => {
  await way.close();
  vi.useRealTimers();
});
const settle = (): Promise<void> => vi.advanceTimersByTimeAsync(0).then(() => {});

test('a destination is there from the beginning, and each packet is answered for', async () => {
  expect(way.isEmpty).toBe(true);
  way.add(member);
  way.carry(5, []);
  expect([way.isEmpty, way.isCarrying]).toEqual([false, true]);
  answers[0].good();
  await settle();
  way.carry(6, []);
  answers[1].bad(new Error('the disk is full'));
  await settle();
  way.carry(6, []);
  answers[2].good();
  await settle();
  way.remove(member);
  expect(said).toEqual([
    'up 1 file x',
    'packet 5: carried',
    'problem: the disk is full',
    'packet 6: file x: the disk is full',
    'problem: none',
    'packet 6: carried',
    'down 1',
  ]);
  expect([way.isCarrying, way.where]).toEqual([false, 'file x']);
});

test('one that does not answer is told of and waited for: it has no second packet until it does', async () => {
  way.add(member);
  way.carry(5, []);
  await vi.advanceTimersByTimeAsync(9000);
  expect(way.problem).toBeNull();
  await vi.advanceTimersByTimeAsync(2000);
  way.carry(5, []);
  expect(answers).toHaveLength(1);
  expect(said.slice(1)).toEqual([
    'problem: no answer for 10 s: it is waited for',
    'packet 5: no answer for 10 s: it is waited for',
  ]);
  answers[0].good();
  await settle();
  expect(said.slice(3)).toEqual(['problem: none', 'packet 5: carried']);
});

test('what answers after the end is no news, and what hangs is not closed', async () => {
  way.add(member);
  way.carry(5, []);
  way.remove(member);
  await way.close();
  expect(closed).toBe(0);
  answers[0].bad(new Error('too late'));
  await settle();
  expect([said.filter((words) => words.startsWith('problem')), closed]).toEqual([[], 1]);
});
