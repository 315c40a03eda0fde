import { sameBytes } from '../../../../bytes/index.ts';
import type { Instant } from '../../../../session/index.ts';
import type { Fragment } from '../../wire/application.ts';

/** No device gives up waiting for a confirm so soon. */
const PROMPT_MS = 500;

export interface Confirm {
  sequence: number;
  unsolicited: boolean;
  since: Instant;
}

/** Confirms that are due or wait for a commit, and the unsolicited response that was taken last. */
export class Confirms {
  /** Those whose readings are committed, the oldest first. */
  private due: Confirm[] = [];
  private last: {
    octets: Uint8Array;
    token: number | null;
    ambiguous: boolean;
    arrived: Instant;
    confirmed: boolean;
  } | null = null;
  /** When an answer was confirmed last. */
  private confirmedAt: Instant = 0;
  /** A commit that took too long; no events are asked for until it is there. */
  late: number | null = null;

  get first(): Confirm | undefined {
    return this.due[0];
  }

  /** Whether a confirm is due, or an unsolicited response waits for its commit. */
  get waits(): boolean {
    return this.due.length > 0 || this.last?.token != null;
  }

  /** Whether the confirm of the last unsolicited response has gone out. */
  get lastIsConfirmed(): boolean {
    return this.last?.confirmed === true;
  }

  want(sequence: number, unsolicited: boolean, now: Instant): void {
    this.due.push({ sequence, unsolicited, since: now });
  }

  /** A connection begins or ends. */
  forget(): void {
    this.due = [];
    this.last = null;
  }

  /** Forgets the confirm of an answer that the device may have given up; returns whether one was due. */
  dropAnswer(): boolean {
    const before = this.due.length;
    this.due = this.due.filter(({ unsolicited }) => unsolicited);
    return this.due.length < before;
  }

  /** Whether an unsolicited response is the last one again: then it is confirmed again, where that was due. */
  isRepeated({ octets, control }: Fragment, now: Instant): boolean {
    const { last } = this;
    if (last === null) return false;
    if (!sameBytes(last.octets.subarray(4), octets.subarray(4)) || last.octets[0] !== octets[0]) return false;
    if (last.token === null && control.confirm) this.want(control.sequence, true, now);
    last.arrived = now;
    last.confirmed = false;
    return true;
  }

  /** Another unsolicited response; `soon`: right after the one before was confirmed. */
  took({ octets }: Fragment, now: Instant): { soon: boolean; promptly: boolean } {
    const soon = this.last?.confirmed === true && now - this.last.arrived < PROMPT_MS;
    this.last = { octets, token: null, ambiguous: false, arrived: now, confirmed: false };
    return { soon, promptly: now - this.confirmedAt < PROMPT_MS };
  }

  /** The confirm of the last unsolicited response waits for that commit. */
  await(token: number, ambiguous: boolean): void {
    if (this.last !== null) Object.assign(this.last, { token, ambiguous });
  }

  /** Whether the last unsolicited response waited for that commit: its confirm is due now. */
  committed(token: number, now: Instant): boolean {
    if (this.last?.token !== token) return false;
    this.last.token = null;
    this.want(this.last.octets[0] & 0x0f, true, now);
    return true;
  }

  /** The first one goes out; `askAgain`: events of an unsolicited response may come again. */
  send(now: Instant): (Confirm & { askAgain: boolean }) | null {
    const confirm = this.due.shift();
    if (confirm === undefined) return null;
    const { sequence, unsolicited, since } = confirm;
    if (!unsolicited) this.confirmedAt = now;
    const { last } = this;
    if (unsolicited && last !== null && (last.octets[0] & 0x0f) === sequence) last.confirmed = true;
    return { sequence, unsolicited, since, askAgain: unsolicited && last?.ambiguous === true };
  }

  /** It was seen to that the events of the last unsolicited response are asked for again. */
  askedAgain(): void {
    if (this.last !== null) this.last.ambiguous = false;
  }
}
