import type { Instant } from '../../../session/index.ts';
import { PrimaryFunction, SecondaryFunction } from './link.ts';

/*
 * The primary side of confirmed link service (IEEE 1815, clause 9.2.7).
 *
 * Rules:
 * 1. Before the first confirmed user data the link is reset: RESET LINK STATES, answered by ACK.
 * 2. Then one frame at a time, with the frame count valid and its bit turned over for each new one; the next goes out
 *    when ACK has come.
 * 3. A frame that is not acknowledged in time is sent again unchanged, `retries` times. After that, and after NACK,
 *    the link has to be reset anew; what was waiting is dropped after the last try: the application layer notices.
 */

export interface LinkService {
  timeoutMs: number;
  retries: number;
}

export interface LinkPrimaryOwner {
  send(functionCode: number, countBit: boolean, countValid: boolean, data?: Uint8Array): void;
  repeated(): void;
  /** What was not acknowledged, in words. */
  failed(words: string): void;
}

/** Segments that may wait: some fragments' worth. */
const MAX_WAITING = 64;

export class LinkPrimary {
  private waiting: Uint8Array[] = [];
  private state: 'notReset' | 'resetting' | 'ready' | 'sending' = 'notReset';
  private countBit = true;
  private tries = 0;
  deadline: Instant | null = null;

  constructor(
    private readonly service: LinkService,
    private readonly owner: LinkPrimaryOwner,
  ) {}

  reset(): void {
    this.waiting = [];
    this.state = 'notReset';
    this.deadline = null;
  }

  send(segments: readonly Uint8Array[], now: Instant): void {
    if (this.waiting.length + segments.length > MAX_WAITING) {
      this.owner.failed('its link acknowledges too little');
      return;
    }
    this.waiting.push(...segments);
    if (this.state === 'notReset' || this.state === 'ready') this.next(now);
  }

  /** A secondary frame of our peer. */
  onAnswer(functionCode: number, now: Instant): void {
    if (this.state !== 'resetting' && this.state !== 'sending') return;
    if (functionCode === SecondaryFunction.ack) {
      if (this.state === 'sending') {
        this.waiting.shift();
        this.countBit = !this.countBit;
      } else this.countBit = true;
      this.state = 'ready';
      this.deadline = null;
      this.next(now);
    } else if (functionCode === SecondaryFunction.nack && this.state === 'sending') {
      this.state = 'notReset';
      this.next(now);
    } else if (functionCode === SecondaryFunction.notSupported) this.fail();
  }

  wake(now: Instant): void {
    if (this.deadline === null || now < this.deadline) return;
    if (this.tries >= this.service.retries) {
      this.fail();
      return;
    }
    this.tries++;
    this.owner.repeated();
    this.transmit(now);
  }

  private next(now: Instant): void {
    if (this.waiting.length === 0) return;
    this.tries = 0;
    this.state = this.state === 'notReset' ? 'resetting' : 'sending';
    this.transmit(now);
  }

  private transmit(now: Instant): void {
    if (this.state === 'resetting') this.owner.send(PrimaryFunction.resetLinkStates, false, false);
    else this.owner.send(PrimaryFunction.confirmedUserData, this.countBit, true, this.waiting[0]);
    this.deadline = now + this.service.timeoutMs;
  }

  private fail(): void {
    const words =
      this.state === 'resetting'
        ? 'the reset of its link is not acknowledged, it may do without confirmed link service'
        : 'its link acknowledges no data';
    this.reset();
    this.owner.failed(words);
  }
}
