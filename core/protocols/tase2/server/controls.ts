import { z } from 'zod';
import type { Instant } from '../../../session/index.ts';
import type { CentreOrder, ControlOutcome } from '../../control.ts';
import { AccessError, type AccessResult, type Data } from '../../mms/wire/data.ts';
import type { ServerPoint } from '../../server.ts';
import type { TaseTargetAt } from '../points.ts';
import { INHIBITS, MOST_REASON, NO_TAG, tagOf, tagWords, type Tag } from '../tags.ts';
import { isControl } from '../types.ts';

/*
 * What a peer operates (IEC 60870-6-503, clause 7.4; from memory).
 *
 * Rules:
 *  1. What has to be selected is selected by one association at a time, and operated once; a local reset, a time-out or
 *     the end of the association takes the selection back.
 *  2. A tag inhibits both directions or closing, whoever set it; it is remembered over a restart, and goes when a peer
 *     that may operate takes it off, or somebody here does.
 */

/** A control as it is offered. */
export interface Operated {
  point: ServerPoint<TaseTargetAt>;
  address: string;
}

export interface ControlContext {
  /** Hands an order on; `done` is told what came of it. */
  order: (
    order: CentreOrder,
    phase: 'operate' | 'direct',
    peer: number,
    done: (outcome: ControlOutcome | undefined) => void,
  ) => void;
  note: (words: string) => void;
  keep: (octets: Uint8Array) => void;
}

const tagsSchema = z.record(z.string(), z.object({ inhibits: z.enum(INHIBITS), reason: z.string().max(MOST_REASON) }));

export class Controls {
  private readonly selected = new Map<string, { peer: number; until: Instant }>();
  private readonly tags: Map<string, Tag>;
  private checkBack = 0;

  constructor(
    private readonly selectMs: number,
    private readonly context: ControlContext,
    /** Lines that were kept, its own and others. */
    remembered: readonly string[],
  ) {
    const known = remembered.map(read).filter((one) => one !== null);
    this.tags = new Map(Object.entries(known.at(-1) ?? {}));
  }

  /** All tags, as a line. */
  get kept(): string {
    return `${JSON.stringify(Object.fromEntries(this.tags))}\n`;
  }

  left(peer: number): void {
    for (const [address, one] of this.selected) if (one.peer === peer) this.selected.delete(address);
  }

  /** A local reset; returns how many were selected. */
  takeBack(now: Instant): number {
    const count = [...this.selected.values()].filter(({ until }) => now < until).length;
    this.selected.clear();
    return count;
  }

  select({ address, point }: Operated, peer: number, now: Instant): AccessResult {
    const other = this.selected.get(address);
    if (other !== undefined && other.peer !== peer && now < other.until)
      return { type: 'failure', code: AccessError.temporarilyUnavailable };
    // What may not be operated at all is not armed.
    if (point.mayOperate === false || this.tagOf(address).inhibits === 'open and close')
      return { type: 'failure', code: AccessError.denied };
    this.selected.set(address, { peer, until: now + this.selectMs });
    this.checkBack = (this.checkBack + 1) & 0x7fff;
    return { type: 'integer', value: this.checkBack };
  }

  /** `done` is told the access error; null: it is done. */
  operate(operated: Operated, value: Data, peer: number, now: Instant, done: (error: number | null) => void): void {
    const { address, point } = operated;
    const { at, kind } = point;
    if (!isControl(at.type)) return done(AccessError.denied);
    if (at.select) {
      const selected = this.selected.get(address);
      if (selected?.peer !== peer) return done(AccessError.denied);
      // Once, whatever comes of it.
      this.selected.delete(address);
      if (now >= selected.until) return done(AccessError.denied);
    }
    const number =
      value.type === 'float' || value.type === 'integer' || value.type === 'unsigned' ? Number(value.value) : NaN;
    const fits = at.type === 'SetpointReal' ? value.type === 'float' : value.type !== 'float';
    if (!fits || Number.isNaN(number)) return done(AccessError.typeInconsistent);
    if (!Number.isFinite(number) || (kind === 'output' && number !== 0 && number !== 1))
      return done(AccessError.valueInvalid);
    const tag = this.tagOf(address);
    if (tag.inhibits === 'open and close' || (tag.inhibits === 'close' && kind === 'output' && number === 1)) {
      this.context.note(`a control of ${address} was refused: ${tagWords(tag)}`);
      return done(AccessError.denied);
    }
    const plain = { address, operation: null, onMs: 0, offMs: 0, count: 1 };
    const order: CentreOrder =
      kind === 'output'
        ? { ...plain, kind, on: number === 1, counts: null, asked: number === 1 ? 'on' : 'off' }
        : { ...plain, kind: 'setpoint', counts: number, asked: String(number) };
    this.context.order(order, at.select ? 'operate' : 'direct', peer, (outcome) => done(errorOf(outcome)));
  }

  // ---- tags

  tagOf(address: string): Tag {
    return this.tags.get(address) ?? NO_TAG;
  }
  get tagged(): ReadonlyMap<string, Tag> {
    return this.tags;
  }

  /** With the access error; null: it is so now. `who`: for the journal. */
  tag({ address, point }: Operated, data: Data, who: string): number | null {
    const tag = tagOf(data);
    if (tag === null) return AccessError.typeInconsistent;
    if (tag.reason.length > MOST_REASON) return AccessError.valueInvalid;
    if (point.mayOperate === false) return AccessError.denied;
    this.set(address, tag);
    this.context.note(`${address}: ${tagWords(tag)}, said by ${who}`);
    return null;
  }

  private set(address: string, tag: Tag): void {
    if (tag.inhibits === 'nothing') this.tags.delete(address);
    else {
      this.tags.set(address, tag);
      this.selected.delete(address);
    }
    this.context.keep(new TextEncoder().encode(this.kept));
  }

  /** All of them; returns how many there were. */
  takeTagsOff(): number {
    const { size } = this.tags;
    this.tags.clear();
    if (size > 0) this.context.keep(new TextEncoder().encode(this.kept));
    return size;
  }
}

function read(line: string): Record<string, Tag> | null {
  try {
    return tagsSchema.parse(JSON.parse(line));
  } catch {
    return null;
  }
}

/** The access error that says what came of a control (docs/quality.md). */
export function errorOf(outcome: ControlOutcome | undefined): number | null {
  switch (outcome?.result) {
    case 'done':
      return null;
    case 'notSupported':
      return AccessError.nonExistent;
    case 'outOfRange':
      return AccessError.valueInvalid;
    case 'failed':
      return AccessError.hardwareFault;
    case 'refused':
      if (outcome.refusal === 'outOfRange') return AccessError.valueInvalid;
      if (outcome.refusal === 'busy') return AccessError.temporarilyUnavailable;
      return outcome.refusal === 'lost' ? AccessError.hardwareFault : AccessError.denied;
    default:
      return AccessError.denied;
  }
}
