import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { Loop } from './loop.ts';
import { MODEL_POINTS, ModelTrial } from './model/trial.ts';
import { DEFAULT_VARIATIONS, type OutstationPoint } from '../server/pointtable.ts';

const point = (kind: 'binary' | 'analog' | 'counter', index: number, eventClass: 1 | 2 | 3): OutstationPoint => ({
  kind,
  index,
  class: eventClass,
  staticVariation: DEFAULT_VARIATIONS[kind].static,
  eventVariation: DEFAULT_VARIATIONS[kind].event,
  deadband: 0,
});
const LIST = [point('binary', 0, 1), point('analog', 0, 2), point('counter', 0, 3)];

/** Takes a loop's readings as the engine does: what is committed is kept, with what the master wants kept. */
class Store {
  readonly stored: string[] = [];
  private keep: Uint8Array | null = null;
  private taken = 0;

  constructor(private readonly loop: Loop) {}

  take(): void {
    for (const effect of this.loop.masterEffects.slice(this.taken)) {
      if (effect.type === 'keep') this.keep = effect.keep;
      if (effect.type !== 'readings') continue;
      for (const e of effect.readings) if (e.event) this.stored.push(`${e.kind} ${e.value} ${e.time}`);
      if (effect.keep !== null) this.keep = effect.keep;
    }
    this.taken = this.loop.masterEffects.length;
  }

  /** The process dies and begins anew with what is in the database. */
  die(): void {
    this.take();
    this.loop.newMaster(this.keep);
  }
}

type Plan = { changes: [number, number][]; loseConfirms: boolean[]; then: 'nothing' | 'cut' | 'die' | 'restart' }[];
const UNTIMED = {
  ...{ grainMs: null, cuts: [1], severalFragments: false, keepsEvents: false },
  ...{ order: 'oldestFirst' as const, unsolicited: 'never' as const, classBitsLag: false },
};
/** What was wrong once: looking behind untimed events came to its bound, and stayed there while each poll brought some. */
type Fine = Omit<typeof UNTIMED, 'grainMs' | 'order'> & { grainMs: 1; order: 'byKind' };
const ONCE_WRONG: [typeof UNTIMED | Fine, Plan][] = [
  // The engine dies; the first that comes afterwards is a single event at a time that a coarse clock could give too.
  [
    {
      grainMs: 1,
      cuts: [2, 1],
      severalFragments: false,
      order: 'byKind',
      unsolicited: 'never',
      keepsEvents: true,
      classBitsLag: false,
    },
    [
      {
        changes: [
          [0, 342],
          [2, 779],
          [0, 15],
          [0, 523],
          [0, 341],
          [0, 417],
        ],
        loseConfirms: [false, true],
        then: 'nothing',
      },
      {
        changes: [
          [0, 616],
          [2, 76],
          [2, 320],
        ],
        loseConfirms: [],
        then: 'nothing',
      },
      {
        changes: [
          [0, 54],
          [0, 604],
          [0, 166],
          [0, 733],
          [0, 7],
        ],
        loseConfirms: [true],
        then: 'restart',
      },
      { changes: [], loseConfirms: [], then: 'die' },
      { changes: [], loseConfirms: [], then: 'nothing' },
    ],
  ],
  [
    UNTIMED,
    [
      { changes: [], loseConfirms: [], then: 'restart' },
      {
        changes: [
          [0, 793],
          [0, 788],
        ],
        loseConfirms: [],
        then: 'nothing',
      },
      {
        changes: [
          [0, 246],
          [0, 7],
          [0, 123],
          [5, 683],
          [0, 7],
          [0, 7],
        ],
        loseConfirms: [true, true],
        then: 'nothing',
      },
    ],
  ],
  [
    UNTIMED,
    [
      {
        changes: [
          [5, 643],
          [5, 700],
          [0, 836],
          [0, 576],
          [0, 188],
          [2, 685],
          [0, 7],
        ],
        loseConfirms: [false, true],
        then: 'nothing',
      },
      {
        changes: [
          [1, 7],
          [0, 825],
          [0, 511],
          [1, 362],
          [0, 548],
          [0, 327],
        ],
        loseConfirms: [true, true],
        then: 'nothing',
      },
    ],
  ],
];

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
  });

  test('by whatever clock the device has: grains of 1 ms, 10 ms and 1 s, or no times at all', () => {
    const step = fc.record({
      /** Which point changes, and how long after the change before. */
      changes: fc.array(fc.tuple(fc.nat(5), fc.integer({ min: 7, max: 900 })), { maxLength: 25 }),
      loseConfirms: fc.array(fc.boolean(), { maxLength: 6 }),
      then: fc.constantFrom('nothing', 'nothing', 'nothing', 'cut', 'die', 'restart' as const),
    });
    const way = fc.record({
      grainMs: fc.constantFrom(1, 10, 1000, null),
      cuts: fc.array(fc.integer({ min: 1, max: 9 }), { minLength: 1, maxLength: 5 }),
      severalFragments: fc.boolean(),
      order: fc.constantFrom('oldestFirst', 'byKind', 'byClass' as const),
      unsolicited: fc.constantFrom('never', 'never', 'whenEnabled' as const),
      keepsEvents: fc.boolean(),
      /** Whether its class bits count what an answer carries too. */
      classBitsLag: fc.boolean(),
    });
    fc.assert(
      fc.property(way, fc.array(step, { minLength: 1, maxLength: 8 }), (quirks, plan) => {
        let confirms: boolean[] = [];
        let fragments = 0;
        const isFine = quirks.grainMs !== null && quirks.grainMs <= 10;
        const trial = new ModelTrial(
          {
            ...quirks,
            order: isFine ? quirks.order : 'oldestFirst',
            losesConfirm: () => confirms.shift() ?? false,
            // Where equal events may come, nobody can tell a part of an answer from another one.
            perFragment: () =>
              isFine ? quirks.cuts[fragments++ % quirks.cuts.length] : quirks.severalFragments ? 5 : 1000,
          },
          {
            silentPeriodMs: 2000,
            ...(quirks.unsolicited === 'whenEnabled' ? { unsolicitedClasses: [1, 2, 3] } : {}),
          },
        );
        trial.connect();
        // Not on a whole second: a few events on whole ones are all that tells of a coarse clock.
        trial.pass(2017);
        let number = 0;
        const turned = MODEL_POINTS.map(() => 0);
        for (const { changes, loseConfirms, then } of plan) {
          // The one after a lost one gets through, where two lost ones and what happens meanwhile look like new events.
          confirms = isFine
            ? [...loseConfirms]
            : quirks.unsolicited === 'never'
              ? loseConfirms.flatMap((lost) => (lost ? [true, false] : false))
              : [];
          for (const [at, after] of changes) {
            number++;
            const of = MODEL_POINTS[at];
            const turns = (turned[at] ^= 1);
            trial.change(of, of.kind === 'binary' ? turns : of.kind === 'doubleBit' ? 1 + turns : number);
            // Equal events are told from repeated ones by what comes at once after a confirm: not within its way.
            trial.pass(isFine ? after : 60 + after);
          }
          // Where an event has no time of its own, nobody can tell what a confirm became that was under way at a cut.
          if (then !== 'nothing' && !isFine) {
            confirms = [];
            trial.pass(10_000);
          }
          if (then === 'restart') trial.device.restart();
          if (then === 'die') trial.die();
          if (then === 'cut' || then === 'restart') {
            trial.disconnect();
            trial.pass(300);
            trial.connect();
          }
        }
        confirms = [];
        trial.pass(60_000);
        const { generated, stored, passedOn } = trial.counts;
        expect(trial.device.isEmpty).toBe(true);
        expect(stored).toEqual(generated);
        expect(passedOn.length).toBeGreaterThanOrEqual(generated.length);
      }),
      { numRuns: 400, examples: ONCE_WRONG },
    );
  }, 120_000);

  test('of four contacts at twenty changes a second, whatever its class bits count, its clock and what gets lost', () => {
    const contacts = [0, 1, 2, 3].map((index) => ({ kind: 'binary' as const, index, class: 1 as const }));
    fc.assert(
      fc.property(
        fc.record({
          classBitsLag: fc.boolean(),
          grainMs: fc.constantFrom(1, 10, 1000, null),
          /** Each so many confirms is lost; 0: none. */
          loses: fc.constantFrom(0, 3, 4, 5, 10),
        }),
        fc.array(fc.nat(3), { minLength: 250, maxLength: 250 }),
        ({ loses, ...quirks }, order) => {
          let confirms = 0;
          const losesConfirm = (): boolean => loses > 0 && ++confirms % loses === 0;
          const trial = new ModelTrial({ ...quirks, losesConfirm }, {}, contacts);
          trial.connect();
          trial.pass(2017);
          const turned = [0, 0, 0, 0];
          for (const at of order) {
            trial.change(contacts[at], (turned[at] ^= 1));
            trial.pass(50);
          }
          trial.pass(20_000);
          const { generated, stored } = trial.counts;
          expect([stored, trial.device.isEmpty]).toEqual([generated, true]);
        },
      ),
      { numRuns: 60 },
    );
  }, 120_000);

  test.each([4, 20])('of a contact that toggles %i times a second behind a clock of whole seconds', (perSecond) => {
    const trial = new ModelTrial({ grainMs: 1000 });
    trial.connect();
    for (let i = 0; i < 60 * perSecond; i++) {
      trial.change(MODEL_POINTS[0], i % 2);
      trial.pass(1000 / perSecond);
    }
    trial.pass(5000);
    expect(trial.counts.stored).toEqual(trial.counts.generated);
  });

  test('of events without a time when each third confirm is lost', () => {
    let confirms = 0;
    const trial = new ModelTrial({ grainMs: null, losesConfirm: () => confirms++ % 3 === 1 });
    trial.connect();
    for (let i = 0; i < 200; i++) {
      trial.change(MODEL_POINTS[i % 3 === 0 ? 0 : 3], i % 3 === 0 ? (i / 3) % 2 : i);
      trial.pass(330);
    }
    trial.pass(10_000);
    expect(trial.counts.stored).toEqual(trial.counts.generated);
  });
});
