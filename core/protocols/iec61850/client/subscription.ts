import type { Instant } from '../../../session/index.ts';
import type { Answer, MmsClient } from '../../mms/client.ts';
import { AccessError, accessErrorWords, type Data, type TypeOf } from '../../mms/wire/data.ts';
import { hold } from '../../mms/dialogue.ts';
import type { ObjectName } from '../../mms/wire/names.ts';
import type { Reference } from '../model/reference.ts';
import { makeSet } from './madeset.ts';

/*
 * How a report control block is taken into use (IEC 61850-7-2, 17.2; its attributes after IEC 61850-8-1, 17.1).
 *
 * step        what is asked                                   when it is refused
 * ----------  ----------------------------------------------  -------------------------------------------------------
 * look        the whole block is read                         failed
 * reserve     ResvTms, or Resv, where the block has it        failed: another client has it; noted where it is not to be had
 * make        the data set, where one is to be made, and DatSet     failed
 * set         OptFlds, TrgOps, BufTm, IntgPd, one by one      noted: it stays as the device has it
 * go on       EntryID, of a buffered one that was had before  noted: what lies between is lost, or comes from the start
 * enable      RptEna                                          failed
 *
 * Whatever its buffer held comes right behind that answer: the block is ours from then on, and nothing is asked before.
 * A block that is enabled already is another client's: it is left alone.
 */

/** Optional fields that are wanted, by their bits: see `report.ts`. */
export const WANTED_OPTIONS = [1, 2, 3, 4, 6, 7, 8] as const;
const OPTION_BITS = 10;

/** Triggers, by their bits (IEC 61850-8-1, 8.1.3.9). */
export const TRIGGERS = { dataChange: 1, qualityChange: 2, dataUpdate: 3, integrity: 4, interrogation: 5 } as const;
export type Trigger = keyof typeof TRIGGERS;
const TRIGGER_BITS = 6;

/** Errors of an attribute that the device has no use for, though its type names it. */
const NOT_THERE: ReadonlySet<number> = new Set([
  AccessError.undefined,
  AccessError.typeInconsistent,
  AccessError.accessUnsupported,
  AccessError.nonExistent,
]);

export interface SubscriptionWish {
  /** Of the block: `LLN0$BR$rcb01`. */
  domain: string;
  item: string;
  isBuffered: boolean;
  triggers: readonly Trigger[];
  /** All values each so often, milliseconds; 0: never. */
  integrityMs: number;
  /** Changes are gathered for so long, milliseconds. */
  bufferMs: number;
  /** How long the block stays ours when the association is lost, seconds. */
  reserveS: number;
  /** Of the last report that is stored; null: there is none. */
  entry: Uint8Array | null;
  /** A data set with these is to be made for it; absent: the one that it has. */
  members?: readonly Reference[];
}

export interface Subscribed {
  reportId: string;
  /** Reference of the data set, as MMS has it: `HLMF1/LLN0$measurements`. */
  dataSet: string;
  revision: number;
  /** What is not as wished, for people. */
  notes: readonly string[];
  /** Whether reports go on behind the entry that was known. */
  goesOn: boolean;
}

type Done = (result: Subscribed | string, now: Instant) => void;

export class Subscription {
  private readonly notes: string[] = [];
  private block = new Map<string, Data>();
  private goesOn = false;

  /** `of`: the type of the block, by which its attributes are told apart. */
  constructor(
    private readonly client: MmsClient,
    private readonly wish: SubscriptionWish,
    private readonly of: TypeOf,
    private readonly done: Done,
  ) {}

  start(now: Instant): void {
    this.look(now, (at) => this.reserve(at));
  }

  private look(now: Instant, then: (now: Instant) => void): void {
    const variables = { names: [{ name: this.nameOf(null) }] };
    this.client.ask('read', { variables }, (answer, at) => this.onLook(answer, at, then), now);
  }

  private nameOf(attribute: string | null): ObjectName {
    const { domain, item } = this.wish;
    return { scope: 'domain', domain, item: attribute === null ? item : `${item}$${attribute}` };
  }

  private fail(words: string, now: Instant): void {
    this.done(`${this.wish.domain}/${this.wish.item}: ${words}`, now);
  }

  private onLook(answer: Answer<'read'>, now: Instant, then: (now: Instant) => void): void {
    if (!answer.ok) return this.fail(answer.words, now);
    const [block] = answer.response.results;
    if (block?.type === 'failure') return this.fail(accessErrorWords(block.code), now);
    if (block?.type !== 'structure' || this.of.type !== 'structure' || block.items.length !== this.of.components.length)
      return this.fail('it is not of the type that the device says', now);
    this.block = new Map(this.of.components.map(({ name }, at) => [name, block.items[at]]));
    const enabled = this.block.get('RptEna');
    if (enabled?.type === 'boolean' && enabled.value) return this.fail('another client has it', now);
    then(now);
  }

  private reserve(now: Instant): void {
    const { isBuffered, reserveS } = this.wish;
    const [name, value]: [string, Data] = isBuffered
      ? ['ResvTms', { type: 'integer', value: reserveS }]
      : ['Resv', { type: 'boolean', value: true }];
    // Edition 1 has no reservation of buffered ones: who enables it first has it.
    if (!this.block.has(name)) return this.make(now);
    this.write(name, value, now, (refusal, at, code) => {
      if (code !== null && NOT_THERE.has(code)) this.notes.push(`it cannot be reserved: ${refusal}`);
      else if (refusal !== null) return this.fail(`another client has it: ${refusal}`, at);
      this.make(at);
    });
  }

  /** With another data set its revision is another: it is looked at again. */
  private make(now: Instant): void {
    const { members } = this.wish;
    if (members === undefined) return this.set(now);
    const present = this.block.get('DatSet');
    const dialogue = makeSet(this.wish, members, present?.type === 'text' ? present.text : '');
    hold(
      this.client,
      dialogue,
      (outcome, at) => {
        if (!outcome.ok) this.fail(outcome.problem, at);
        else this.look(at, (later) => this.set(later));
      },
      now,
    );
  }

  /**
   * Each by itself: a device may have some of them fixed. What is so already is not written: a change of most of them
   * empties the buffer (IEC 61850-7-2, 17.2.2.14).
   */
  private set(now: Instant): void {
    const { triggers, bufferMs, integrityMs } = this.wish;
    const bits = (count: number, on: readonly number[]): Data => {
      return { type: 'bits', bits: Array.from({ length: count }, (_, at) => on.includes(at)) };
    };
    const wanted: [name: string, value: Data][] = [
      ['OptFlds', bits(OPTION_BITS, WANTED_OPTIONS)],
      [
        'TrgOps',
        bits(
          TRIGGER_BITS,
          triggers.map((one) => TRIGGERS[one]),
        ),
      ],
      ['BufTm', { type: 'unsigned', value: bufferMs }],
      ['IntgPd', { type: 'unsigned', value: integrityMs }],
    ];
    const open = wanted.filter(([name, value]) => this.block.has(name) && !same(this.block.get(name), value));
    const next = (at: Instant): void => {
      const one = open.shift();
      if (one === undefined) return this.goOn(at);
      this.write(one[0], one[1], at, (refusal, later) => {
        if (refusal !== null) this.notes.push(`${one[0]} stays as the device has it: ${refusal}`);
        next(later);
      });
    };
    next(now);
  }

  private goOn(now: Instant): void {
    const { isBuffered, entry } = this.wish;
    if (!isBuffered || entry === null || !this.block.has('EntryID')) return this.enable(now);
    this.write('EntryID', { type: 'octets', octets: entry }, now, (refusal, at) => {
      this.goesOn = refusal === null;
      if (refusal !== null) this.notes.push(`its buffer does not go back to what is stored: ${refusal}`);
      this.enable(at);
    });
  }

  private enable(now: Instant): void {
    this.write('RptEna', { type: 'boolean', value: true }, now, (refusal, at) => {
      if (refusal !== null) this.fail(`it cannot be enabled: ${refusal}`, at);
      else this.end(at);
    });
  }

  private end(now: Instant): void {
    const text = (name: string): string => {
      const value = this.block.get(name);
      return value?.type === 'text' ? value.text : '';
    };
    const revision = this.block.get('ConfRev');
    this.done(
      {
        reportId: text('RptID') || `${this.wish.domain}/${this.wish.item}`,
        dataSet: text('DatSet'),
        revision: revision?.type === 'unsigned' || revision?.type === 'integer' ? Number(revision.value) : 0,
        ...{ notes: this.notes, goesOn: this.goesOn },
      },
      now,
    );
  }

  private write(
    attribute: string,
    value: Data,
    now: Instant,
    then: (refusal: string | null, now: Instant, code: number | null) => void,
  ): void {
    const variables = { names: [{ name: this.nameOf(attribute) }] };
    this.client.ask(
      'write',
      { variables, values: [value] },
      (answer, at) => {
        if (!answer.ok && answer.lost) this.fail(answer.words, at);
        else if (!answer.ok) then(answer.words, at, null);
        else {
          const [error = null] = answer.response.results;
          then(error === null ? null : accessErrorWords(error), at, error);
        }
      },
      now,
    );
  }
}

function same(a: Data | undefined, b: Data): boolean {
  if (a?.type === 'bits' && b.type === 'bits')
    return b.bits.every((bit, at) => bit === (a.bits[at] ?? false)) && a.bits.slice(b.bits.length).every((bit) => !bit);
  if ((a?.type === 'unsigned' || a?.type === 'integer') && (b.type === 'unsigned' || b.type === 'integer'))
    return Number(a.value) === Number(b.value);
  return false;
}
