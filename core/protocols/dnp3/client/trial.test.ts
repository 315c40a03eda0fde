import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { encodeLinkFrame, SecondaryFunction } from '../wire/link.ts';
import { Outstation } from '../server/outstation.ts';
import { DEFAULT_VARIATIONS, type OutstationPoint } from '../server/pointtable.ts';
import { outstationSettings } from '../settings.ts';
import type { TrialEffect } from '../../client.ts';
import { Trial } from './trial.ts';

const POINTS: OutstationPoint[] = [
  ...Array.from({ length: 300 }, (_, index) => ({ kind: 'analog' as const, index })),
  ...Array.from({ length: 2 }, (_, index) => ({ kind: 'binary' as const, index })),
].map((point) => ({
  ...point,
  class: 1,
  staticVariation: DEFAULT_VARIATIONS[point.kind].static,
  eventVariation: DEFAULT_VARIATIONS[point.kind].event,
  deadband: 0,
}));

type Step = TrialEffect & { type: 'step' };

/** Runs a trial against an outstation in virtual time; `wire` may lose or change what the outstation sends. */
function run(
  trialAddresses: { ours: number; theirs: number },
  outstationAddresses: { ours: number; theirs: number },
  wire: (octets: Uint8Array) => Uint8Array | null = (octets) => octets,
  settings: { selfAddress?: boolean } = {},
): { steps: Step[]; good: boolean | null; outstation: Outstation } {
  let now = 1_700_000_000_000;
  const trial = new Trial(
    {
      ourAddress: trialAddresses.ours,
      theirAddress: trialAddresses.theirs,
      responseTimeoutMs: 1000,
      maxFragment: 2048,
    },
    now,
  );
  const outstation = new Outstation(
    outstationSettings.parse({
      ourAddress: outstationAddresses.ours,
      theirAddress: outstationAddresses.theirs,
      ...settings,
    }),
    POINTS,
    now,
  );
  outstation.command({ type: 'update', updates: [{ kind: 'analog', index: 0, value: 5, flags: 1, time: now }] }, now);
  outstation.start(now);
  trial.start(now);
  const steps: Step[] = [];
  let good: boolean | null = null;
  for (let round = 0; round < 100 && good === null; round++) {
    let busy = false;
    for (const effect of trial.take()) {
      busy = true;
      if (effect.type === 'send') outstation.receive(effect.octets, now);
      else if (effect.type === 'step') steps.push(effect);
      else good = effect.good;
    }
    for (const effect of outstation.take()) {
      if (effect.type !== 'send') continue;
      busy = true;
      const arrived = wire(effect.octets);
      if (arrived) trial.receive(arrived, now);
    }
    if (busy) continue;
    if (trial.deadline === null) break;
    now = trial.deadline;
    trial.wake(now);
    outstation.wake(now);
  }
  return { steps, good, outstation };
}
const last = (steps: Step[]): Step => steps[steps.length - 1];

describe('a try', () => {
  test('link status, then the present values of everything, in several fragments; no event is taken', () => {
    const { steps, good, outstation } = run({ ours: 1, theirs: 11 }, { ours: 11, theirs: 1 });
    expect(steps.map(({ step, state }) => `${step} ${state}`)).toEqual([
      'linkStatus running',
      'linkStatus good',
      'read running',
      'read good',
    ]);
    expect(last(steps).words).toContain('2 binary inputs, 300 analog inputs');
    expect(good).toBe(true);
    expect(outstation.events.size).toBe(1);
  });

  test('a device with another address is silent, and the words say so', () => {
    const { steps, good } = run({ ours: 1, theirs: 12 }, { ours: 11, theirs: 1 });
    expect(good).toBe(false);
    expect(last(steps).words).toContain('connected, but silent');
    expect(last(steps).meaning).toContain('another address than 12');
  });

  /** What comes back is a link status with these addresses. */
  const answering = (source: number, destination: number) => () =>
    encodeLinkFrame({
      fromMaster: false,
      primary: false,
      countBit: false,
      countValid: false,
      functionCode: SecondaryFunction.linkStatus,
      destination,
      source,
      data: new Uint8Array(0),
    });

  test('who answers with another address is named', () => {
    const { steps, good } = run({ ours: 1, theirs: 11 }, { ours: 11, theirs: 1 }, answering(13, 1));
    expect(good).toBe(false);
    expect(last(steps).words).toBe('it answers with address 13, not 11');
    expect(last(steps).meaning).toContain('Set their address to 13 here');
  });

  test('who expects another master is found out', () => {
    const { steps } = run({ ours: 1, theirs: 11 }, { ours: 11, theirs: 1 }, answering(11, 3));
    expect(last(steps).words).toBe('it answers to address 3, not to ours, 1');
  });

  test('when nothing answers, who is there is asked for its address', () => {
    const { steps, good } = run({ ours: 1, theirs: 12 }, { ours: 11, theirs: 1 }, (octets) => octets, {
      selfAddress: true,
    });
    expect(good).toBe(false);
    expect(last(steps).words).toBe('it answers with address 11, not 12; it told us so at the self-address, 65532');
    const without = run({ ours: 1, theirs: 12 }, { ours: 11, theirs: 1 });
    expect(last(without.steps).words).toContain('connected, but silent');
  });

  test('octets that are no DNP3 are told from silence', () => {
    const { steps } = run({ ours: 1, theirs: 11 }, { ours: 11, theirs: 1 }, () =>
      new TextEncoder().encode('HTTP/1.1 400 Bad'),
    );
    expect(last(steps).words).toContain('no DNP3 frame');
  });

  test('a connection that is closed ends it', () => {
    const trial = new Trial({ ourAddress: 1, theirAddress: 11, responseTimeoutMs: 1000, maxFragment: 2048 }, 0);
    trial.start(0);
    trial.take();
    trial.stop(10);
    const effects = trial.take();
    expect(effects.map(({ type }) => type)).toEqual(['step', 'ended']);
    expect((effects[0] as Step).words).toContain('closed the connection');
  });

  test('whatever is changed on the way, it ends and throws nothing', () => {
    fc.assert(
      fc.property(
        fc.array(fc.record({ at: fc.nat(300), to: fc.nat(255), lose: fc.boolean() }), { maxLength: 12 }),
        (plan) => {
          const changes = [...plan];
          const { good } = run({ ours: 1, theirs: 11 }, { ours: 11, theirs: 1 }, (octets) => {
            const change = changes.shift();
            if (!change) return octets;
            if (change.lose) return null;
            const next = octets.slice();
            next[change.at % next.length] = change.to;
            return next;
          });
          expect(good).not.toBeNull();
        },
      ),
    );
  });
});
