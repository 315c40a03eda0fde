import type { Instant } from '../../session/index.ts';

export interface Repetition<Request> {
  request: Request;
  /** How often it went out before. */
  attempt: number;
  since: Instant;
}

/**
 * Requests that nobody answered, to be made again. What may be repeated is its session's affair: a write never is, its
 * answer may have been lost on the way.
 */
export class Repetitions<Request> {
  private waiting: Repetition<Request>[] = [];

  get first(): Repetition<Request> | undefined {
    return this.waiting[0];
  }

  get size(): number {
    return this.waiting.length;
  }

  /** Nothing came to this try of it (0: the first): it goes out `most` times more. Returns whether it does now. */
  again(request: Request, attempt: number, most: number, now: Instant): boolean {
    if (attempt >= most) return false;
    this.waiting.push({ request, attempt: attempt + 1, since: now });
    return true;
  }

  /** It goes out, or is wanted no more. */
  take(isOne: (request: Request) => boolean): void {
    this.waiting = this.waiting.filter(({ request }) => !isOne(request));
  }

  clear(): void {
    this.waiting = [];
  }
}
