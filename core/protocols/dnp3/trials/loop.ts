import type { Instant } from '../../../session/index.ts';
import { Master } from '../client/master.ts';
import type { MasterCommand, MasterEffect } from '../client/mastermessages.ts';
import { Outstation, type OutstationCommand, type OutstationEffect } from '../server/outstation.ts';
import type { OutstationPoint } from '../server/pointtable.ts';
import { masterSettings, outstationSettings, type MasterSettings, type OutstationSettings } from '../settings.ts';

/** What happens to octets on their way; null: they are lost. */
export type Wire = (octets: Uint8Array, towards: 'outstation' | 'master') => Uint8Array | null;

/**
 * A master and an outstation joined in virtual time, for tests. Commits are given at once unless `holdCommits` is
 * set; controls are accepted unless `decide` says otherwise.
 */
export class Loop {
  now: Instant = 1_700_000_000_000;
  master: Master;
  readonly outstation: Outstation;
  readonly masterEffects: MasterEffect[] = [];
  readonly outstationEffects: OutstationEffect[] = [];
  readonly sent: { towards: 'outstation' | 'master'; octets: Uint8Array }[] = [];
  wire: Wire = (octets) => octets;
  holdCommits = false;
  private readonly settings: MasterSettings;
  decide: (effect: OutstationEffect & { type: 'control' }) => number[] | null = ({ items }) => items.map(() => 0);

  constructor(
    points: OutstationPoint[],
    master: Partial<MasterSettings> = {},
    outstation: Partial<OutstationSettings> = {},
  ) {
    this.settings = masterSettings.parse({ ourAddress: 1, theirAddress: 11, ...master });
    const there = outstationSettings.parse({ ourAddress: 11, theirAddress: 1, ...outstation });
    this.master = new Master(this.settings, this.now);
    this.outstation = new Outstation(there, points, this.now);
  }

  /** Another master takes the place of this one, with what was kept. */
  newMaster(remembered: Uint8Array | null): void {
    this.master = new Master(this.settings, this.now, { remembered });
  }

  connect(): void {
    this.outstation.start(this.now);
    this.master.start(this.now);
    this.pump();
  }

  disconnect(): void {
    this.outstation.stop(this.now);
    this.master.stop(this.now);
    this.pump();
  }

  toMaster(command: MasterCommand): void {
    this.master.command(command, this.now);
    this.pump();
  }

  toOutstation(command: OutstationCommand): void {
    this.outstation.command(command, this.now);
    this.pump();
  }

  /** Lets time pass, waking whoever has a deadline. */
  pass(ms: number): void {
    const end = this.now + ms;
    for (;;) {
      const next = Math.min(this.master.deadline ?? Infinity, this.outstation.deadline ?? Infinity);
      if (next > end) break;
      this.now = Math.max(this.now, next);
      this.master.wake(this.now);
      this.outstation.wake(this.now);
      this.pump();
    }
    this.now = end;
  }

  /** Carries effects to and fro until nothing is left to do. */
  pump(): void {
    for (let busy = true; busy;) {
      busy = false;
      for (const effect of this.master.take()) {
        busy = true;
        this.masterEffects.push(effect);
        if (effect.type === 'send') this.carry(effect.octets, 'outstation');
        if (effect.type === 'readings' && effect.token !== null && !this.holdCommits)
          this.master.command({ type: 'committed', token: effect.token }, this.now);
      }
      for (const effect of this.outstation.take()) {
        busy = true;
        this.outstationEffects.push(effect);
        if (effect.type === 'send') this.carry(effect.octets, 'master');
        if (effect.type === 'control') {
          const statuses = this.decide(effect);
          if (statuses !== null)
            this.outstation.command({ type: 'controlResult', token: effect.token, statuses }, this.now);
        }
      }
    }
  }

  private carry(octets: Uint8Array, towards: 'outstation' | 'master'): void {
    this.sent.push({ towards, octets });
    const arrived = this.wire(octets, towards);
    if (arrived === null) return;
    (towards === 'master' ? this.master : this.outstation).receive(arrived, this.now);
  }
}
