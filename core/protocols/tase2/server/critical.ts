import { z } from 'zod';
import type { Instant } from '../../../session/index.ts';
import { EventNumbers, settledPart } from '../../owed.ts';
import { encodeBer, parseBer, reading } from '../../mms/wire/ber.ts';
import { dataNode, dataOf, type Data } from '../../mms/wire/data.ts';
import type { OwedRecord, ServerEffect } from '../../server.ts';

/*
 * Changes that critical reports have to tell, by the data set that they are of: a transfer set is the peer's for as long
 * as its association, and what it has not acknowledged is owed beyond that. (IEC 60870-6-503 has the acknowledgement; that
 * changes are kept for a peer that is away is ours.)
 *
 * queue     what happens                                    becomes    and then
 * --------  ----------------------------------------------  ---------  ------------------------------------------------
 * none      a critical set by exception is enabled          taken      its changes are owed until acknowledged
 * taken     its peer goes, we restart                       waiting    changes of its objects go on being owed
 * waiting   a critical set of that data set is enabled      taken      it tells first what has waited
 * taken     the peer disables it, or makes it otherwise     none       nothing is owed to it any more
 *
 * Beyond `MOST_WAITING` changes of a queue, the oldest of an object gives way to its newest.
 */

export const MOST_WAITING = 10_000;
/** Data sets whose changes are kept at most. */
const MOST_QUEUES = 20;

/** A change that waits for a report; `number`: under which it is owed, null: it is not. */
export interface WaitingChange {
  name: string;
  value: Data;
  number: number | null;
}

interface CriticalQueue {
  members: ReadonlySet<string>;
  /** Each change, not only the last one of an object. */
  all: boolean;
  /** While no set has it. */
  waiting: WaitingChange[];
  taken: boolean;
  /** What is owed, by number, ascending. */
  owed: Map<number, WaitingChange>;
}

const keptSchema = z.object({
  criticalSets: z.array(z.object({ dataSet: z.string(), members: z.array(z.string()), all: z.boolean() })),
});

export class CriticalChanges {
  private readonly queues = new Map<string, CriticalQueue>();
  private readonly numbers: EventNumbers;
  private isFilling: boolean;

  constructor(
    private readonly tell: (effect: ServerEffect) => void,
    remembered: readonly string[],
    { lastNumber, owes }: { lastNumber: number; owes: boolean },
  ) {
    this.numbers = new EventNumbers(lastNumber);
    this.isFilling = owes;
    const last = remembered.flatMap((line) => readKept(line) ?? []).at(-1);
    for (const { dataSet, members, all } of last?.criticalSets ?? [])
      this.queues.set(dataSet, { members: new Set(members), all, waiting: [], taken: false, owed: new Map() });
  }

  /** What sets are known, as a line; null: there never was one. */
  get kept(): string {
    const criticalSets = [...this.queues].map(([dataSet, { members, all }]) => ({
      ...{ dataSet, members: [...members], all },
    }));
    return `${JSON.stringify({ criticalSets })}\n`;
  }
  private keep(): void {
    this.tell({ type: 'keep', octets: new TextEncoder().encode(this.kept) });
  }

  /** A critical set is enabled; returns what has waited for it. Null: what is owed is not known yet, or is too much. */
  take(dataSet: string, members: readonly string[], all: boolean): WaitingChange[] | null {
    const known = this.queues.get(dataSet);
    if (this.isFilling || known?.taken || (known === undefined && this.queues.size >= MOST_QUEUES)) return null;
    const waiting = known?.waiting ?? [];
    this.queues.set(dataSet, {
      ...{ members: new Set(members), all, waiting: [], taken: true },
      owed: known?.owed ?? new Map<number, WaitingChange>(),
    });
    this.keep();
    return waiting;
  }

  /** Its peer has gone: what it had not acknowledged waits, the oldest first. */
  giveBack(dataSet: string, waiting: readonly WaitingChange[]): void {
    const queue = this.queues.get(dataSet);
    if (queue === undefined) return;
    queue.taken = false;
    queue.waiting = [...waiting];
  }

  /** Nobody wants it any more. */
  end(dataSet: string): void {
    const queue = this.queues.get(dataSet);
    if (queue === undefined) return;
    this.settle(dataSet, [...queue.owed.keys()]);
    this.queues.delete(dataSet);
    this.keep();
  }

  /** An object has changed that queues without a set have. */
  changed(name: string, value: Data, now: Instant): void {
    for (const [dataSet, queue] of this.queues) {
      if (queue.taken || !queue.members.has(name)) continue;
      const known =
        queue.all && queue.waiting.length < MOST_WAITING ? -1 : queue.waiting.findIndex((one) => one.name === name);
      const change = this.owe(dataSet, name, value, now);
      const [gone] = known < 0 ? [] : queue.waiting.splice(known, 1);
      queue.waiting.push(change);
      if (gone?.number != null) this.settle(dataSet, [gone.number]);
    }
  }

  /** A change of a set that has the queue is owed from now on. */
  owe(dataSet: string, name: string, value: Data, now: Instant): WaitingChange {
    const number = this.numbers.next(now);
    const change = { name, value, number };
    this.queues.get(dataSet)?.owed.set(number, change);
    this.tell({ type: 'owes', ...recordOf(dataSet, change, number) });
    return change;
  }

  /** These are acknowledged, or gave way to newer ones. */
  settle(dataSet: string, numbers: readonly number[]): void {
    const owed = this.queues.get(dataSet)?.owed;
    if (owed === undefined || numbers.length === 0) return;
    for (const number of numbers) owed.delete(number);
    const [oldest = null] = owed.keys();
    this.tell({ type: 'settled', queue: dataSet, ...settledPart(oldest, this.numbers.last, numbers) });
  }

  /** Changes that wait for a peer that is away. */
  get waiting(): number {
    let waiting = 0;
    for (const queue of this.queues.values()) waiting += queue.waiting.length;
    return waiting;
  }

  get owed(): OwedRecord[] {
    return [...this.queues]
      .flatMap(([dataSet, { owed }]) => [...owed].map(([number, change]) => recordOf(dataSet, change, number)))
      .sort((a, b) => a.number - b.number);
  }

  /** What an earlier session owed; `last`: that is all of it. */
  fill(records: readonly OwedRecord[], last: boolean): void {
    for (const { queue: dataSet, number, octets } of records) {
      const queue = this.queues.get(dataSet);
      const change = changeOf(octets);
      if (queue === undefined || change === null) continue;
      queue.owed.set(number, { ...change, number });
    }
    if (!last) return;
    this.isFilling = false;
    for (const queue of this.queues.values()) {
      queue.owed = new Map([...queue.owed].sort(([a], [b]) => a - b));
      queue.waiting = [...queue.owed.values()];
    }
  }
}

const text = (value: string): Data => ({ type: 'text', text: value, wide: true });

const recordOf = (queue: string, { name, value }: WaitingChange, number: number): OwedRecord => ({
  ...{ queue, number },
  octets: encodeBer(dataNode({ type: 'structure', items: [text(name), value] })),
});

function changeOf(octets: Uint8Array): Omit<WaitingChange, 'number'> | null {
  const read = reading(() => dataOf(octets, parseBer(octets, 0)));
  if (!read.ok || read.value.type !== 'structure') return null;
  const [name, value] = read.value.items;
  return name?.type === 'text' && value !== undefined ? { name: name.text, value } : null;
}

function readKept(line: string): z.infer<typeof keptSchema> | null {
  try {
    return keptSchema.parse(JSON.parse(line));
  } catch {
    return null;
  }
}
