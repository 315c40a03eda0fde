import { Association, type AssociationEffect, type AssociationSettings, type Caller } from '../association.ts';
import type { Negotiated, Pdu } from '../wire/pdu.ts';
import { ServiceBit } from '../wire/pdu.ts';

export const AGREEMENT: Negotiated = {
  size: 65_000,
  calling: 5,
  called: 5,
  nesting: 10,
  parameters: ['str1', 'str2', 'vnam', 'valt', 'vlis'],
  services: Object.values(ServiceBit),
};
const octets = (...values: number[]): Uint8Array => Uint8Array.from(values);

export const settings = (change: Partial<AssociationSettings> = {}): AssociationSettings => ({
  ours: { transport: octets(0, 0), session: octets(0, 1), presentation: octets(0, 0, 0, 1) },
  theirs: { transport: octets(0, 1), session: octets(0, 1), presentation: octets(0, 0, 0, 1) },
  ourTitle: { title: '1.1.1.999', qualifier: 12 },
  theirTitle: { title: '1.1.1.999.1', qualifier: 12 },
  password: null,
  agreement: AGREEMENT,
  tpduSize: 1024,
  timeoutMs: 5000,
  ...change,
});

/** Both ends of an association in one loop, in virtual time. */
export class Pair {
  now = 1_700_000_000_000;
  readonly calling: Association;
  readonly called: Association;
  readonly sent: { octets: Uint8Array; fromCaller: boolean }[] = [];
  readonly news: { calling: AssociationEffect[]; called: AssociationEffect[] } = { calling: [], called: [] };
  /** What becomes of octets on their way; null: they are lost. */
  wire: (octets: Uint8Array, fromCaller: boolean) => Uint8Array | null = (octets) => octets;
  /** What the called end makes of a caller. */
  decide: (caller: Caller) => Negotiated | { diagnostic: number } = ({ agreement }) => agreement;

  constructor(caller: Partial<AssociationSettings> = {}, called: Partial<AssociationSettings> = {}) {
    this.calling = new Association(settings(caller), 'calling');
    const { ours, theirs } = settings();
    this.called = new Association(settings({ ours: theirs, theirs: ours, ...called }), 'called');
  }

  start(): this {
    this.called.start(this.now);
    this.calling.start(this.now);
    this.pump();
    return this;
  }

  send(from: 'calling' | 'called', pdu: Pdu): void {
    this[from].send(pdu);
    this.pump();
  }

  pass(ms: number): void {
    this.now += ms;
    this.calling.wake(this.now);
    this.called.wake(this.now);
    this.pump();
  }

  pump(): void {
    for (let busy = true; busy;) {
      busy = false;
      for (const side of ['calling', 'called'] as const)
        for (const effect of this[side].take()) {
          busy = true;
          this.news[side].push(effect);
          if (effect.type === 'send') this.carry(effect.octets, side === 'calling');
          if (effect.type === 'asked') this.answer(effect.caller);
        }
    }
  }

  private answer(caller: Caller): void {
    const decided = this.decide(caller);
    if ('diagnostic' in decided) this.called.refuse(decided.diagnostic, 'refused');
    else this.called.accept(decided);
  }

  private carry(octets: Uint8Array, fromCaller: boolean): void {
    this.sent.push({ octets, fromCaller });
    const arrived = this.wire(octets, fromCaller);
    if (arrived !== null) (fromCaller ? this.called : this.calling).receive(arrived, this.now);
  }

  /** How an end was told that it is over; null: it is not. */
  closed(side: 'calling' | 'called'): string | null {
    const end = this.news[side].find((one) => one.type === 'closed');
    return end?.type === 'closed' ? end.words : null;
  }

  pdus(side: 'calling' | 'called'): Pdu[] {
    return this.news[side].flatMap((one) => (one.type === 'pdu' ? [one.pdu] : []));
  }
}
