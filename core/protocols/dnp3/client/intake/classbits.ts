import { ALL_EVENT_CLASSES } from './replay.ts';

/**
 * What a device means when an answer that brings events says that events of its classes wait: those that it holds besides
 * (IEEE 1815, IIN1.1 to IIN1.3), or what the answer itself carries too, so that the bits say nothing. What it does tells:
 *
 * - an answer that brings events of the classes that it read, without their bits: it counts the others alone;
 * - one with their bits, and the next read of them brings nothing: it counts what the answer carried.
 *
 * Until then they are taken for nothing.
 */
export class ClassBits {
  private countsAnswer = true;
  /** Of which classes (bits) the last answer with events said that more wait. */
  private said = 0;
  private hasEvents = false;

  /** What an answer to a read of this scope with events says of what waits, as far as it means anything. */
  of(scope: number, waiting: number): number {
    const own = waiting & scope & ALL_EVENT_CLASSES;
    this.hasEvents = true;
    if (own === 0) this.countsAnswer = false;
    this.said = own;
    return this.countsAnswer ? waiting & ~own : waiting;
  }

  /** The answer is complete. */
  complete(scope: number): void {
    const { hasEvents, said } = this;
    this.hasEvents = false;
    if (hasEvents) return;
    if ((said & scope) !== 0) this.countsAnswer = true;
    this.said &= ~scope;
  }

  /** What waited may have come another way, or may come again. */
  forget(): void {
    [this.said, this.hasEvents] = [0, false];
  }
}
