import { Priority } from '../../../line/index.ts';
import type { Instant } from '../../../session/index.ts';
import type { Order } from '../order.ts';
import { FRAME_OVERHEAD, OCTET_WIDTH, type FramingName } from '../wire/frame.ts';
import { isBitRead, isRead, type Request } from '../wire/pdu.ts';
import { blockWords, READ_FUNCTION } from './blocks.ts';
import type { RunningBlock } from './rounds.ts';
import type { Writing } from './writes.ts';

/** What a request is for. */
export type Job =
  | { type: 'read'; running: RunningBlock }
  | { type: 'write'; writing: Writing }
  | { type: 'order'; id: string; order: Order; survey: boolean };

/** A request that is under way. */
export interface Exchange {
  job: Job;
  request: Request;
  transaction: number;
  attempt: number;
  sentAt: Instant;
  deadline: Instant;
  /** Octets that keep coming put the deadline off no further. */
  patienceEnds: Instant;
}

/** Any data would do; this tells a crossed wire from an echo. */
const ECHO = Uint8Array.of(0xa5, 0x37);

export function requestOf(job: Job): Request {
  switch (job.type) {
    case 'read': {
      const { table, start, count } = job.running.block;
      return { code: READ_FUNCTION[table], address: start, count };
    }
    case 'write':
      return job.writing.request;
    case 'order':
      if (job.order.what === 'identify') return { code: 0x2b, access: 1, object: 0 };
      return {
        code: 0x08,
        sub: job.order.what === 'echo' ? 0 : 1,
        data: job.order.what === 'echo' ? ECHO : Uint8Array.of(0, 0),
      };
    default:
      return job satisfies never;
  }
}

export const priorityOf = (job: Job): Priority =>
  job.type === 'write' ? Priority.control : job.type === 'read' ? Priority.events : Priority.background;

export const wordsOf = (job: Job): string =>
  job.type === 'read' ? `read ${blockWords(job.running.block)}` : job.type === 'write' ? 'write' : job.order.what;

/** Octets on the line of the answer that is to be expected. */
export function answerOctets(request: Request, framing: FramingName): number {
  const isSized = isRead(request.code) && 'count' in request;
  const data = !isSized ? 3 : isBitRead(request.code) ? Math.ceil(request.count / 8) : request.count * 2;
  return FRAME_OVERHEAD[framing] + (2 + data) * OCTET_WIDTH[framing];
}

/** What was asked for is under way no more. */
export function settled({ job }: Exchange): void {
  if (job.type === 'read') job.running.underWay = false;
}
