import type { Session } from '@halvix/core/session';
import { afterEach, beforeEach, expect, test, vi } from 'vitest';
import { clock } from './clock.ts';
import { Driver } from './driver.ts';

/* A session that does as it is told, in virtual time. */

class Told implements Session<string, string> {
  deadline: number | null = null;
  did: string[] = [];
  out: string[] = [];
  start = (): void => void this.did.push('start');
  stop = (): void => void this.did.push('stop');
  receive = (octets: Uint8Array): void => void this.did.push(`heard ${octets.length}`);
  command = (command: string): void => void this.did.push(command);
  wake = (): void => {
    this.did.push(`woken after ${clock.now() - began}`);
    this.deadline = null;
  };
  take = (): string[] => this.out.splice(0);
}
let session: Told;
let effects: string[];
let driver: Driver<string, string>;
let began: number;
/** Called for each effect. */
let onEffect: (effect: string) => void;
beforeEach(() => {
  vi.useFakeTimers({ now: Date.UTC(2096, 0, 1) });
  [session, effects, onEffect] = [new Told(), [], () => {}];
  began = clock.now();
  driver = new Driver(session, (effect) => {
    effects.push(effect);
    onEffect(effect);
  });
});
afterEach(() => {
  driver.close();
  vi.useRealTimers();
});
const due = (afterMs: number | null): void => {
  session.deadline = afterMs === null ? null : began + afterMs;
  driver.settle();
};

test('passes on what comes, and carries out what the session wants, in order', () => {
  driver.start();
  session.out = ['one', 'two'];
  driver.receive(new Uint8Array(3));
  driver.command('a command');
  driver.stop();
  expect([session.did, effects]).toEqual([
    ['start', 'heard 3', 'a command', 'stop'],
    ['one', 'two'],
  ]);
});

test('what an effect brings about comes after the effects that are there', () => {
  onEffect = (effect) => {
    if (effect !== 'one') return;
    session.out.push('three');
    driver.command('again');
  };
  session.out = ['one', 'two'];
  driver.settle();
  expect(effects).toEqual(['one', 'two', 'three']);
});

test('wakes the session at its deadline, once', () => {
  due(100);
  vi.advanceTimersByTime(99);
  expect(session.did).toEqual([]);
  vi.advanceTimersByTime(1);
  expect(session.did).toEqual(['woken after 100']);
  vi.advanceTimersByTime(10_000);
  expect(session.did).toHaveLength(1);
});

test('a deadline that is put off again and again has one timer, and is met when it comes', () => {
  const timers = vi.spyOn(globalThis, 'setTimeout');
  due(100);
  for (let ms = 110; ms <= 300; ms += 10) due(ms);
  expect(timers).toHaveBeenCalledTimes(1);
  vi.advanceTimersByTime(299);
  expect(session.did).toEqual([]);
  vi.advanceTimersByTime(1);
  expect(session.did).toEqual(['woken after 300']);
});

test('a deadline that comes nearer is met', () => {
  due(1000);
  due(50);
  vi.advanceTimersByTime(50);
  expect(session.did).toEqual(['woken after 50']);
});

test('without a deadline, and once it is closed, nobody is woken', () => {
  due(100);
  due(null);
  expect(vi.getTimerCount()).toBe(0);
  due(100);
  driver.close();
  vi.advanceTimersByTime(1000);
  expect(session.did).toEqual([]);
});

test('a deadline that has passed is met at once; one of many years hence does no harm', () => {
  due(-5);
  vi.advanceTimersByTime(1);
  expect(session.did).toHaveLength(1);
  due(1e12);
  vi.advanceTimersByTime(10_000);
  expect(session.did).toHaveLength(1);
});
