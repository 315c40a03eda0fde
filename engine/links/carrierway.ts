import type { Message } from '@halvix/core/protocols';
import { clock } from '@halvix/wire';
import type { Carrier } from '../carriers/index.ts';
import type { CentreLink, OutboundMember } from './outboundlink.ts';

/** Its peer: a destination is always there, until a packet does not get to it. */
const PEER = 1;
/** A carrier that has said nothing for so long is told of; it is waited for all the same, for it may still have the packet. */
const NO_ANSWER_MS = 10_000;
const LOOK_MS = 1000;

/** The way to a destination that a carrier knows: one outbound's alone. */
export class CarrierWay implements CentreLink {
  readonly config = null;
  readonly timing = { framing: '', octetMs: 0 };
  problem: string | null = null;
  private member: OutboundMember | null = null;
  /** When the packet was given to the carrier that it has not answered for; null: there is none. */
  private since: number | null = null;
  private readonly looks: NodeJS.Timeout;
  private closed = false;

  constructor(private readonly carrier: Carrier) {
    this.looks = setInterval(() => this.look(), LOOK_MS);
  }

  get where(): string {
    return this.carrier.where;
  }
  get isEmpty(): boolean {
    return this.member === null;
  }
  /** A packet is with the carrier, and nothing is known of it. */
  get isCarrying(): boolean {
    return this.since !== null;
  }
  /** Whoever changes the destination begins anew. */
  fits(): boolean {
    return true;
  }

  add(member: OutboundMember): void {
    this.member = member;
    member.up(PEER, this.where, null);
  }
  remove(member: OutboundMember): void {
    if (this.member !== member) return;
    this.member = null;
    member.down(PEER);
  }

  send(): void {
    // Nothing is said here beyond packets.
  }
  hangUp(): void {
    // There is no connection to end.
  }

  carry(packet: number, messages: readonly Message[]): void {
    const { member } = this;
    // The session gives one at a time; a carrier that hangs has no second one until it answers.
    if (this.since !== null) return member?.carried?.(packet, this.problem ?? 'it has not answered yet');
    this.since = clock.now();
    this.carrier
      .carry(messages)
      .then(() => null)
      .catch((error: unknown) => (error instanceof Error ? error.message : String(error)))
      .then((problem) => {
        this.since = null;
        if (this.closed) void this.carrier.close();
        this.say(problem);
        member?.carried?.(packet, problem === null ? null : `${this.where}: ${problem}`);
      });
  }

  private look(): void {
    if (this.since === null) return;
    const forMs = clock.now() - this.since;
    if (forMs >= NO_ANSWER_MS && this.problem === null)
      this.say(`no answer for ${NO_ANSWER_MS / 1000} s: it is waited for`);
  }

  private say(problem: string | null): void {
    if (this.problem === problem || this.closed) return;
    this.problem = problem;
    this.member?.changed();
  }

  async close(): Promise<void> {
    this.closed = true;
    clearInterval(this.looks);
    // What hangs is not waited for.
    if (this.since === null) await this.carrier.close();
  }
}
