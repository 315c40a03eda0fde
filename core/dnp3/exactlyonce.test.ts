import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { eventKey, ReplayGuard } from '../point/index.ts';
import { Loop } from './loop.ts';
import { DEFAULT_VARIATIONS, type OutstationPoint } from './pointtable.ts';

const point = (kind: 'binary' | 'analog' | 'counter', index: number, eventClass: 1 | 2 | 3): OutstationPoint => ({
  kind,
  index,
  class: eventClass,
  staticVariation: DEFAULT_VARIATIONS[kind].static,
  eventVariation: DEFAULT_VARIATIONS[kind].event,
  deadband: 0,
});
const LIST = [point('binary', 0, 1), point('analog', 0, 2), point('counter', 0, 3)];

/** Takes a loop's readings as the engine does: what is committed is kept, with the keys of that moment. */
class Store {
  guard = new ReplayGuard();
  remembered: number[] = [];
  readonly stored: string[] = [];
  private taken = 0;

  constructor(private readonly loop: Loop) {}

  take(): void {
    for (const effect of this.loop.masterEffects.slice(this.taken)) {
      if (effect.type === 'doubt') this.guard.doubt();
      if (effect.type === 'settled') this.guard.settle(effect.classes, effect.waiting);
      if (effect.type !== 'readings') continue;
      const events = effect.readings.filter((reading) => reading.event);
      const fresh = this.guard.admit(
        events.map((e) => eventKey(e.kind, e.index, e.value, e.flags, e.time)),
        (at) => events[at].time !== null,
        effect,
      );
      events.forEach((e, i) => fresh[i] && this.stored.push(`${e.kind} ${e.value} ${e.time}`));
      if (effect.token !== null) this.remembered = this.guard.remembered();
    }
    this.taken = this.loop.masterEffects.length;
  }

  /** The process dies and begins anew with what is in the database. */
  die(): void {
    this.take();
    this.guard = new ReplayGuard(this.remembered);
  }
}

describe('every event is stored exactly once', () => {
  test('whatever frames get lost, however often the connection breaks or the engine dies', () => {
    const step = fc.record({
      events: fc.nat(120),
      loseFrames: fc.array(fc.boolean(), { maxLength: 8 }),
      then: fc.constantFrom('nothing', 'nothing', 'disconnect', 'die' as const),
      passMs: fc.integer({ min: 10, max: 2500 }),
    });
    fc.assert(
      fc.property(fc.array(step, { minLength: 1, maxLength: 12 }), (plan) => {
        const loop = new Loop(
          LIST,
          { silentPeriodMs: 2000, class3PeriodMs: 3000, maxFragment: 400 },
          { maxFragment: 400 },
        );
        const store = new Store(loop);
        let losses: boolean[] = [];
        loop.wire = (octets) => (losses.shift() ? null : octets);
        loop.connect();
        const began = loop.now;
        let number = 0;
        for (const { events, loseFrames, then, passMs } of plan) {
          for (let i = 0; i < events; i++) {
            number++;
            const { kind, index } = LIST[number % 3];
            const value = kind === 'binary' ? Math.floor(number / 3) % 2 : number;
            loop.outstation.command(
              { type: 'update', updates: [{ kind, index, value, flags: 1, time: began + number, exact: true }] },
              loop.now,
            );
          }
          losses = [...loseFrames];
          loop.pass(passMs);
          if (then === 'nothing') continue;
          loop.disconnect();
          if (then === 'die') store.die();
          loop.pass(500);
          loop.connect();
        }
        losses = [];
        loop.pass(40_000);
        store.take();
        const events = loop.outstationEffects.flatMap((e) =>
          e.type === 'event' ? [`${e.event.kind} ${e.event.value} ${e.event.time}`] : [],
        );
        expect([...store.stored].sort()).toEqual([...events].sort());
      }),
      { numRuns: 200 },
    );
  }, 60_000);
});
