import type { Instant } from '../../../session/index.ts';
import { FunctionCode, type Fragment } from '../wire/application.ts';
import { MAX_FRAME, PrimaryFunction, type LinkFrame } from '../wire/link.ts';
import { fragmentStart } from '../wire/transport.ts';
import type { MasterSettings } from '../settings.ts';
import type { Answer, Task } from './task.ts';

/** While its octets come, a fragment may take so many time-outs, beside its line time. */
const MAX_EXTENSION = 8;
/** How long the octets of one frame may falter. */
const ARRIVAL_SLACK_MS = 100;

export interface Sending {
  task: Task;
  attempt: number;
  sequence: number;
  /** When its first octet goes out, and its last. */
  begins: Instant;
  ends: Instant;
  waitMs: number;
}

/** The request that is under way: what came in answer so far, and how long more is waited for. */
export class AwaitedAnswer {
  readonly task: Task;
  readonly attempt: number;
  readonly sentAt: Instant;
  sequence: number;
  deadline: Instant;
  fragments = 0;
  fresh = 0;
  ambiguous = false;
  repeated = false;
  unreadable = false;
  objects = false;
  readonly groups = new Set<number>();
  /** Token of the commit that the confirm waits for. */
  commit: { token: number; final: boolean } | null = null;
  /** When frames of the answer that keep coming put the deadline off no more. */
  private patienceEnds: Instant;
  /** When octets that may be of its next frame do so no more. */
  private octetsUntil: Instant;
  /** Whether the segments that come belong to it. */
  private comes = false;

  constructor(
    { task, attempt, sequence, begins, ends, waitMs }: Sending,
    private readonly settings: Pick<MasterSettings, 'responseTimeoutMs' | 'maxFragment'>,
    private readonly octetMs: number,
  ) {
    this.task = task;
    this.attempt = attempt;
    this.sequence = sequence;
    this.sentAt = begins;
    this.deadline = ends + waitMs;
    this.patienceEnds = this.patienceFrom(ends);
    this.octetsUntil = this.frameEnds(ends + waitMs);
  }

  private patienceFrom(sent: Instant): Instant {
    const { responseTimeoutMs, maxFragment } = this.settings;
    return sent + responseTimeoutMs * MAX_EXTENSION + 1.5 * this.octetMs * maxFragment;
  }

  /** When a frame whose octets begin to come now is there at the latest. */
  private frameEnds(from: Instant): Instant {
    return from + this.octetMs * MAX_FRAME + ARRIVAL_SLACK_MS;
  }

  /** What came, with the last fragment of it. */
  with(fragment: Fragment): Answer {
    const { sentAt, fresh, ambiguous, repeated, unreadable, objects, groups } = this;
    return { fragment, sentAt, fresh, ambiguous, repeated, unreadable, objects, groups };
  }

  /** Whether a fragment is the next one of it. */
  isNext({ functionCode, control }: Fragment): boolean {
    return (
      functionCode === FunctionCode.response &&
      this.commit === null &&
      control.sequence === this.sequence &&
      control.first === (this.fragments === 0)
    );
  }

  /** A good frame of the device: one that carries a part of the answer puts the deadline off. */
  heard(frame: LinkFrame, now: Instant): void {
    if (this.commit !== null || !carriesUserData(frame)) return;
    const start = fragmentStart(frame.data);
    if (start !== null) this.comes = start.functionCode === FunctionCode.response && start.sequence === this.sequence;
    if (!this.comes) return;
    this.deadline = Math.min(this.patienceEnds, Math.max(this.deadline, now + this.settings.responseTimeoutMs));
    this.octetsUntil = this.frameEnds(this.deadline);
  }

  /** Octets come in: perhaps they are its next frame. */
  octetsArrive(now: Instant): void {
    if (this.commit !== null) return;
    this.deadline = Math.max(this.deadline, Math.min(this.octetsUntil, this.frameEnds(now)));
  }

  /** Another fragment of it is to come. */
  goOn(now: Instant): void {
    this.sequence = (this.sequence + 1) & 0x0f;
    const { responseTimeoutMs } = this.settings;
    this.deadline = now + responseTimeoutMs;
    this.patienceEnds = this.patienceFrom(now);
    this.octetsUntil = this.frameEnds(now + responseTimeoutMs);
    this.comes = false;
  }
}

const carriesUserData = ({ primary, functionCode }: LinkFrame): boolean =>
  primary &&
  (functionCode === PrimaryFunction.unconfirmedUserData || functionCode === PrimaryFunction.confirmedUserData);
