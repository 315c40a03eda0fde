import { concat } from '../bytes/index.ts';
import { decodeFragment, type Fragment } from './application.ts';
import type { CounterSet } from './counters.ts';
import { encodeLinkFrame, LinkParser, PrimaryFunction, SecondaryFunction, type LinkFrame } from './link.ts';
import { Reassembler, segment } from './transport.ts';

/** A fragment with the link frames that carried it. */
export interface ReceivedFragment {
  fragment: Fragment;
  frames: Uint8Array[];
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
}

/**
 * The link and transport layers of one conversation, the same for both ends.
 *
 * Rules (IEEE 1815, clauses 9 and 8):
 * 1. A frame counts only when it is for us, from our peer, and from the other role; everything else is counted and
 *    dropped.
 * 2. As the secondary we answer: reset link states with ACK, test link with ACK, request link status with LINK STATUS,
 *    confirmed user data with ACK (a repeated frame count bit is acknowledged again but not delivered), anything else
 *    with NOT SUPPORTED.
 * 3. As the primary we send unconfirmed user data.
 */
export class Endpoint {
  private readonly parser = new LinkParser();
  private readonly reassembler: Reassembler;
  private transportSequence = 0;
  private linkReset = false;
  private expectedCountBit = true;
  /** Frames to send, in order. */
  private out: Uint8Array[] = [];

  constructor(readonly options: EndpointOptions) {
    this.reassembler = new Reassembler(options.maxFragment);
  }

  /** A new connection: nothing of the one before counts. */
  reset(): void {
    this.parser.reset();
    this.reassembler.reset();
    this.linkReset = false;
    this.out = [];
  }

  /** What is to be sent, as one piece; null when there is nothing. */
  takeOutput(): Uint8Array | null {
    if (this.out.length === 0) return null;
    const octets = concat(this.out);
    this.options.counters.add('framesSent', this.out.length);
    this.options.counters.add('octetsSent', octets.length);
    this.out = [];
    return octets;
  }

  sendFragment(fragment: Uint8Array): void {
    const segments = segment(fragment, this.transportSequence);
    this.transportSequence = (this.transportSequence + segments.length) & 0x3f;
    for (const data of segments) this.sendFrame(true, PrimaryFunction.unconfirmedUserData, data);
  }

  /** Asks the other end for its link status (IEEE 1815, clause 9.2.6). */
  requestLinkStatus(): void {
    this.sendFrame(true, PrimaryFunction.requestLinkStatus);
  }

  private sendFrame(primary: boolean, functionCode: number, data: Uint8Array = new Uint8Array(0)): void {
    const { role, ourAddress, theirAddress } = this.options;
    this.out.push(
      encodeLinkFrame({
        fromMaster: role === 'master',
        primary,
        countBit: false,
        countValid: false,
        functionCode,
        destination: theirAddress,
        source: ourAddress,
        data,
      }),
    );
  }

  /** Returns the fragments that are complete; `heard` is called for each good frame from our peer. */
  receive(bytes: Uint8Array, heard: () => void = () => {}): ReceivedFragment[] {
    const { counters } = this.options;
    counters.add('octetsReceived', bytes.length);
    const received: ReceivedFragment[] = [];
    for (const event of this.parser.push(bytes)) {
      switch (event.type) {
        case 'noise':
          counters.add('noiseOctets', event.octets);
          break;
        case 'headerChecksum':
          counters.add('headerChecksums');
          break;
        case 'bodyChecksum':
          counters.add('bodyChecksums');
          break;
        case 'frame': {
          counters.add('framesReceived');
          this.options.observe?.(event.frame);
          if (!this.isForUs(event.frame)) break;
          heard();
          const done = this.onFrame(event.frame, event.octets);
          if (done !== null) received.push(done);
          break;
        }
        default:
          event satisfies never;
      }
    }
    return received;
  }

  private isForUs(frame: LinkFrame): boolean {
    const { role, ourAddress, theirAddress, counters } = this.options;
    if (frame.destination !== ourAddress) counters.add('otherDestination');
    else if (frame.source !== theirAddress) counters.add('otherSource');
    else if (frame.fromMaster === (role === 'master')) counters.add('wrongDirection');
    else return true;
    return false;
  }

  private onFrame(frame: LinkFrame, octets: Uint8Array): ReceivedFragment | null {
    if (!frame.primary) return null;
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
