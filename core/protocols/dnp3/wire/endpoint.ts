import { concat } from '../../../bytes/index.ts';
import type { Instant } from '../../../session/index.ts';
import { decodeFragment, type Fragment } from './application.ts';
import type { CounterSet } from '../counters.ts';
import { BROADCAST_ADDRESSES, SELF_ADDRESS } from '../address.ts';
import {
  encodeLinkFrame,
  LinkParser,
  PrimaryFunction,
  SecondaryFunction,
  type LinkEvent,
  type LinkFrame,
} from './link.ts';
import { LinkPrimary, type LinkService } from './linkprimary.ts';
import { Reassembler, segment } from './transport.ts';

/** A fragment with the link frames that carried it. */
export interface ReceivedFragment {
  fragment: Fragment;
  frames: Uint8Array[];
  /** The broadcast address that it was sent to; absent: it was for us alone. */
  broadcast?: number;
}

export interface EndpointOptions {
  role: 'master' | 'outstation';
  ourAddress: number;
  theirAddress: number;
  /** Longest fragment taken, octets. */
  maxFragment: number;
  counters: CounterSet;
  /** Sees every good frame, those that are not for us too. */
  observe?: (frame: LinkFrame) => void;
  /** How user data goes out; absent: unconfirmed. */
  linkService?: LinkService;
  /** Whether frames to the self-address are for us. */
  selfAddress?: boolean;
}

const NO_DATA: Uint8Array = new Uint8Array(0);

/**
 * The link and transport layers of one conversation, the same for both ends.
 *
 * Rules (IEEE 1815, clauses 9 and 8):
 * 1. A frame counts only when it is for us, from our peer, and from the other role; everything else is counted and
 *    dropped.
 * 2. As the secondary we answer: reset link states with ACK, test link with ACK, request link status with LINK STATUS,
 *    confirmed user data with ACK (a repeated frame count bit is acknowledged again but not delivered), anything else
 *    with NOT SUPPORTED.
 * 3. As the primary we send unconfirmed user data, or confirmed user data where the settings say so (`LinkPrimary`).
 * 4. An outstation takes user data for the broadcast addresses too, and for the self-address when that is enabled
 *    (clause 9.2.5.2); it answers no broadcast.
 */
export class Endpoint {
  private readonly parser = new LinkParser();
  private readonly reassembler: Reassembler;
  private transportSequence = 0;
  private linkReset = false;
  private expectedCountBit = true;
  /** Frames to send, in order. */
  private out: Uint8Array[] = [];
  private readonly primary: LinkPrimary | null;
  /** What the link there did not acknowledge last; null: nothing is amiss with it. */
  linkTrouble: string | null = null;

  constructor(readonly options: EndpointOptions) {
    this.reassembler = new Reassembler(options.maxFragment);
    this.primary = options.linkService
      ? new LinkPrimary(options.linkService, {
          send: (functionCode, countBit, countValid, data) =>
            this.sendFrame(true, functionCode, data, countBit, countValid),
          failed: (words) => {
            this.linkTrouble = words;
            options.counters.add('linkFailures');
          },
          repeated: () => options.counters.add('linkRetries'),
        })
      : null;
  }

  /** When the wait for a link acknowledgement ends; null: there is none. */
  get deadline(): Instant | null {
    return this.primary?.deadline ?? null;
  }

  /** A deadline has passed. */
  wake(now: Instant): void {
    this.primary?.wake(now);
  }

  /** A new connection: nothing of the one before counts. */
  reset(): void {
    this.linkTrouble = null;
    this.parser.reset();
    this.reassembler.reset();
    this.linkReset = false;
    this.out = [];
    this.primary?.reset();
  }

  /** What is to be sent, as one piece; null when there is nothing. */
  takeOutput(): Uint8Array | null {
    if (this.out.length === 0) return null;
    const octets = this.out.length === 1 ? this.out[0] : concat(this.out);
    this.options.counters.add('framesSent', this.out.length);
    this.options.counters.add('octetsSent', octets.length);
    this.out = [];
    return octets;
  }

  /** With `destination`: to that broadcast address, always unconfirmed. */
  sendFragment(fragment: Uint8Array, now: Instant, destination?: number): void {
    const segments = segment(fragment, this.transportSequence);
    this.transportSequence = (this.transportSequence + segments.length) & 0x3f;
    if (this.primary !== null && destination === undefined) this.primary.send(segments, now);
    else
      for (const data of segments)
        this.sendFrame(true, PrimaryFunction.unconfirmedUserData, data, false, false, destination);
  }

  /** Asks the other end, or whoever is at `destination`, for its link status (IEEE 1815, clause 9.2.6). */
  requestLinkStatus(destination?: number): void {
    this.sendFrame(true, PrimaryFunction.requestLinkStatus, undefined, false, false, destination);
  }

  private sendFrame(
    primary: boolean,
    functionCode: number,
    data = NO_DATA,
    countBit = false,
    countValid = false,
    destination = this.options.theirAddress,
  ): void {
    const { role, ourAddress } = this.options;
    const fromMaster = role === 'master';
    const frame = { fromMaster, primary, countBit, countValid, functionCode, destination, source: ourAddress, data };
    this.out.push(encodeLinkFrame(frame));
  }

  /** Returns the fragments that are complete; `heard` is called for each good frame from our peer. */
  receive(bytes: Uint8Array, now: Instant, heard: (frame: LinkFrame) => void = () => {}): ReceivedFragment[] {
    this.options.counters.add('octetsReceived', bytes.length);
    return this.parser.push(bytes).flatMap((event) => this.take(event, now, heard) ?? []);
  }

  /** Takes what a parser found, for an endpoint that shares its line with others. */
  take(event: LinkEvent, now: Instant, heard: (frame: LinkFrame) => void = () => {}): ReceivedFragment | null {
    const { counters } = this.options;
    switch (event.type) {
      case 'noise':
        counters.add('noiseOctets', event.octets);
        return null;
      case 'headerChecksum':
        counters.add('headerChecksums');
        return null;
      case 'bodyChecksum':
        counters.add('bodyChecksums');
        return null;
      case 'frame':
        counters.add('framesReceived');
        this.options.observe?.(event.frame);
        if (!this.isForUs(event.frame)) return null;
        heard(event.frame);
        return this.onFrame(event.frame, event.octets, now);
      default:
        return event satisfies never;
    }
  }

  private isForUs(frame: LinkFrame): boolean {
    const { role, ourAddress, theirAddress, counters } = this.options;
    const broadcast = role === 'outstation' && BROADCAST_ADDRESSES.includes(frame.destination);
    const self = this.options.selfAddress === true && frame.destination === SELF_ADDRESS;
    if (frame.destination !== ourAddress && !broadcast && !self) counters.add('otherDestination');
    else if (frame.source !== theirAddress) counters.add('otherSource');
    else if (frame.fromMaster === (role === 'master')) counters.add('wrongDirection');
    else return true;
    return false;
  }

  private onFrame(frame: LinkFrame, octets: Uint8Array, now: Instant): ReceivedFragment | null {
    if (!frame.primary) {
      if (frame.functionCode === SecondaryFunction.ack) this.linkTrouble = null;
      this.primary?.onAnswer(frame.functionCode, now);
      return null;
    }
    if (BROADCAST_ADDRESSES.includes(frame.destination)) {
      if (frame.functionCode !== PrimaryFunction.unconfirmedUserData) return null;
      const received = this.onUserData(frame.data, octets);
      return received && { ...received, broadcast: frame.destination };
    }
    switch (frame.functionCode) {
      case PrimaryFunction.resetLinkStates:
        this.linkReset = true;
        this.expectedCountBit = true;
        this.sendFrame(false, SecondaryFunction.ack);
        return null;
      case PrimaryFunction.testLinkStates:
        this.sendFrame(false, this.linkReset ? SecondaryFunction.ack : SecondaryFunction.nack);
        return null;
      case PrimaryFunction.requestLinkStatus:
        this.sendFrame(false, SecondaryFunction.linkStatus);
        return null;
      case PrimaryFunction.confirmedUserData:
        if (!this.linkReset) {
          this.sendFrame(false, SecondaryFunction.nack);
          return null;
        }
        this.sendFrame(false, SecondaryFunction.ack);
        if (frame.countBit !== this.expectedCountBit) return null;
        this.expectedCountBit = !this.expectedCountBit;
        return this.onUserData(frame.data, octets);
      case PrimaryFunction.unconfirmedUserData:
        return this.onUserData(frame.data, octets);
      default:
        this.sendFrame(false, SecondaryFunction.notSupported);
        return null;
    }
  }

  private onUserData(data: Uint8Array, octets: Uint8Array): ReceivedFragment | null {
    const { counters } = this.options;
    const { done, problem } = this.reassembler.push(data, octets);
    if (problem === 'fragmentTooLong') counters.add('overlongFragments');
    else if (problem !== null) counters.add('transportErrors');
    if (done === null) return null;
    const decoded = decodeFragment(done.fragment);
    if (!decoded.ok) {
      counters.add('malformedFragments');
      return null;
    }
    return { fragment: decoded.value, frames: done.frames };
  }
}
