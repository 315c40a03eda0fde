import { sameBytes } from '../../../bytes/index.ts';
import type { Instant } from '../../../session/index.ts';
import { AccessError, type Data, type TypeOf } from '../../mms/wire/data.ts';
import {
  CAUSES,
  controlOf,
  isEnhanced,
  isSelected,
  ORIGIN_CATEGORIES,
  type ApplicationError,
  type ControlModel,
  type Origin,
} from '../control.ts';
import { sameData } from './tree.ts';

/*
 * What may be operated, one data object (IEC 61850-7-2, clause 20).
 *
 * object     what happens                          becomes    and then
 * ---------  ------------------------------------  ---------  -------------------------------------------------------
 * free       SBO is read, SBOw is written          asking     the owner is asked whether it may be selected
 * asking     yes                                   selected   the name, or the write is confirmed
 * asking     no                                    free       refused, with its cause
 * selected   Oper by the same client               operating  the owner is asked to do it
 * selected   Cancel by it, its time is over        free
 * operating  done, or not                          free       the answer; of an enhanced one the command termination
 * free       Oper, without select before operate   operating  the same
 *
 * Rules:
 *  1. Whoever is not the one that selected it is told: locked by another client; without a select: not selected.
 *  2. Of an enhanced one the write is confirmed as soon as the owner has taken it, and its end is told behind it.
 *  3. A control under way is never given to the owner again.
 *  4. What is operated is what was selected: value, number and origin alike. An origin is one of the categories, and has 64
 *     octets at most (IEC 61850-7-3, 6.11; from memory).
 *  5. Origin and number of the last control that was done stand at the object; while one is under way its own do.
 */

/** What a client wants done. */
export interface Wish {
  value: Data;
  origin: Origin;
  number: number;
  test: boolean;
  synchrocheck: boolean;
  interlock: boolean;
}

export type ControlPhase = 'select' | 'operate' | 'direct';

/** Number of an additional cause by its words. */
export const Cause = Object.fromEntries(CAUSES.map((words, at) => [words, at])) as Record<
  (typeof CAUSES)[number],
  number
>;

export interface OperatedContext {
  /** Asks the owner; the answer is the additional cause that refuses it, null: done. */
  ask: (peer: number, phase: ControlPhase, wish: Wish, answer: (cause: number | null) => void) => void;
  /** Tells a client what it did not do. */
  tellError: (peer: number, error: ApplicationError) => void;
  /** Who operates it, and with which number, stands at the object; returns what puts back what was there. */
  show: (wish: Wish) => () => void;
  /** Tells a client of the end of a control; `error` null: it was done. */
  tellEnd: (peer: number, error: ApplicationError | null, oper: Data) => void;
}

type State =
  | { type: 'free' }
  | { type: 'asking' | 'operating'; peer: number }
  | { type: 'selected'; peer: number; wish: Wish | null; until: Instant };

export class Operated {
  private state: State = { type: 'free' };

  constructor(
    /** As errors name it: `HLM/GGIO1$CO$SPCSO1`. */
    readonly name: string,
    readonly model: ControlModel,
    private readonly types: { oper: TypeOf; cancel: TypeOf },
    private readonly selectMs: number,
    private readonly context: OperatedContext,
  ) {}

  get deadline(): Instant {
    return this.state.type === 'selected' ? this.state.until : Infinity;
  }

  wake(now: Instant): void {
    if (this.state.type === 'selected' && now >= this.state.until) this.state = { type: 'free' };
  }

  /** Its client has gone: what was selected is free again. What is being operated goes on. */
  left(peer: number): void {
    if (this.state.type !== 'free' && this.state.peer === peer && this.state.type === 'selected')
      this.state = { type: 'free' };
  }

  private blockedFor(peer: number): number | null {
    const { state } = this;
    if (state.type === 'free') return null;
    if (state.type === 'operating' || state.type === 'asking') return Cause['command already in execution'];
    return state.peer === peer ? null : Cause['locked by other client'];
  }

  private refuse(peer: number, part: string, wish: Wish | null, cause: number, done: (error: number) => void): void {
    this.context.tellError(peer, this.errorOf(part, wish, cause));
    done(AccessError.denied);
  }

  private errorOf(part: string, wish: Wish | null, cause: number): ApplicationError {
    const origin = wish?.origin ?? { category: 0, identity: new Uint8Array() };
    return { object: `${this.name}$${part}`, error: 1, origin, number: wish?.number ?? 0, cause };
  }

  /** The read of SBO: its name when it is selected, else an empty one. */
  select(peer: number, now: Instant, done: (name: string) => void): void {
    const isFor = this.model === 'selectBeforeOperate' && this.blockedFor(peer) === null;
    if (!isFor) return done('');
    this.state = { type: 'asking', peer };
    const wish = { value: NO_VALUE, ...NOBODY };
    this.context.ask(peer, 'select', wish, (cause) => {
      this.state =
        cause === null ? { type: 'selected', peer, wish: null, until: now + this.selectMs } : { type: 'free' };
      done(cause === null ? `${this.name}$SBO` : '');
    });
  }

  write(part: string, data: Data, peer: number, now: Instant, done: (error: number | null) => void): void {
    if (part === 'Cancel') return this.cancel(data, peer, done);
    if (part !== 'Oper' && part !== 'SBOw') return done(AccessError.denied);
    const read = controlOf(this.types.oper, data);
    if (!read.ok) return done(AccessError.typeInconsistent);
    const wish = read.value;
    if (this.model === 'statusOnly') return this.refuse(peer, part, wish, Cause['not supported'], done);
    const blocked = this.blockedFor(peer);
    if (blocked !== null) return this.refuse(peer, part, wish, blocked, done);
    if (!isOrigin(wish.origin)) return this.refuse(peer, part, wish, Cause['inconsistent parameters'], done);
    if (part === 'SBOw') this.selectWith(wish, peer, now, done);
    else this.operate(wish, data, peer, done);
  }

  private selectWith(wish: Wish, peer: number, now: Instant, done: (error: number | null) => void): void {
    if (this.model !== 'selectBeforeOperateEnhanced')
      return this.refuse(peer, 'SBOw', wish, Cause['not supported'], done);
    if (this.state.type === 'selected') return this.refuse(peer, 'SBOw', wish, Cause['object already selected'], done);
    this.state = { type: 'asking', peer };
    this.context.ask(peer, 'select', wish, (cause) => {
      this.state = cause === null ? { type: 'selected', peer, wish, until: now + this.selectMs } : { type: 'free' };
      if (cause === null) done(null);
      else this.refuse(peer, 'SBOw', wish, cause, done);
    });
  }

  private operate(wish: Wish, data: Data, peer: number, done: (error: number | null) => void): void {
    const { state, model } = this;
    if (isSelected(model)) {
      if (state.type !== 'selected') return this.refuse(peer, 'Oper', wish, Cause['object not selected'], done);
      const selected = state.wish;
      if (selected !== null && !isSameWish(selected, wish)) {
        this.state = { type: 'free' };
        return this.refuse(peer, 'Oper', wish, Cause['inconsistent parameters'], done);
      }
    }
    this.state = { type: 'operating', peer };
    const takeBack = this.context.show(wish);
    const enhanced = isEnhanced(model);
    // The client is not kept waiting for the process: its end is told.
    if (enhanced) done(null);
    this.context.ask(peer, isSelected(model) ? 'operate' : 'direct', wish, (cause) => {
      this.state = { type: 'free' };
      if (cause !== null) takeBack();
      if (enhanced) this.context.tellEnd(peer, cause === null ? null : this.errorOf('Oper', wish, cause), data);
      else if (cause === null) done(null);
      else this.refuse(peer, 'Oper', wish, cause, done);
    });
  }

  private cancel(data: Data, peer: number, done: (error: number | null) => void): void {
    const read = controlOf(this.types.cancel, data);
    if (!read.ok) return done(AccessError.typeInconsistent);
    if (this.state.type === 'selected' && this.state.peer === peer) {
      this.state = { type: 'free' };
      return done(null);
    }
    this.refuse(peer, 'Cancel', read.value, Cause['object not selected'], done);
  }
}

const MOST_IDENTITY = 64;
const isOrigin = ({ category, identity }: Origin): boolean =>
  category >= 0 && category < ORIGIN_CATEGORIES.length && identity.length <= MOST_IDENTITY;
const isSameWish = (a: Wish, b: Wish): boolean =>
  sameData(a.value, b.value) &&
  a.number === b.number &&
  a.origin.category === b.origin.category &&
  sameBytes(a.origin.identity, b.origin.identity);

const NO_VALUE: Data = { type: 'boolean', value: false };
const NOBODY = {
  ...{ origin: { category: 0, identity: new Uint8Array() }, number: 0 },
  ...{ test: false, synchrocheck: false, interlock: false },
};
