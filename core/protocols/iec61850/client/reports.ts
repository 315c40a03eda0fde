import { PastMessages } from '../../past.ts';
import type { Instant } from '../../../session/index.ts';
import type { Answer, MmsClient, Told } from '../../mms/client.ts';
import { hold } from '../../mms/dialogue.ts';
import { accessErrorWords, type AccessResult } from '../../mms/wire/data.ts';
import { decodeReport, Segments, type Report, type Reason } from '../report.ts';
import { decodeEntryTime } from '../time.ts';
import { blockName, type Assigned, type Block } from './blocks.ts';
import type { Came } from './held.ts';
import { removeSet } from './madeset.ts';
import type { LastEntry } from './keep.ts';
import { Subscription, type Subscribed, type Trigger } from './subscription.ts';

/*
 * The reports of a device that are ours, from the first try for each until the association is lost.
 *
 * Rules:
 *  1. Each data set that is assigned is tried for with its blocks one after the other, until one of them is enabled.
 *  2. A data set that no block could be had of is tried for again every `AGAIN_MS`; till then its values are polled.
 *  3. A buffered block goes on behind the last entry that was handed out.
 *  4. After a gap in the numbers of an unbuffered block all its values are asked for.
 *  5. Present values that a block does not report when it is asked to are read.
 *  6. Of a buffer that could not go on there, entries that are not newer than the last one are left out: they were had.
 */

/** A block that is enabled for us. */
export interface Running {
  assigned: Assigned;
  block: Block;
  subscribed: Subscribed;
  segments: Segments;
  sequence: number | null;
  /** Entries not newer than this were had before; null: all are new. */
  newerThan: Instant | null;
  reports: number;
  gaps: number;
  overflows: number;
  last: LastReport | null;
  /** What each member was last. */
  shown: Map<number, AccessResult>;
  past: PastMessages;
}

/** A report, and what its members were before it. */
export interface LastReport {
  at: Instant;
  report: Report;
  before: ReadonlyMap<number, AccessResult | undefined>;
}

/** A report as it is to be made readings of. */
export interface Arrived {
  running: Running;
  report: Report;
  came: Came[];
  entryTime: Instant | null;
}

export interface ReportEvents {
  /** `words`: something odd, for the journal. */
  trouble: (words: string, what: 'gaps' | 'overflows' | 'unusable') => void;
  note: (words: string) => void;
  /** The device does not tell present values of what it reports, though they are wanted. */
  unasked: (running: Running, now: Instant) => void;
  /** All tries are over for now. */
  settled: (now: Instant) => void;
}

const TRIGGERS: readonly Trigger[] = ['dataChange', 'qualityChange', 'integrity', 'interrogation'];
/** A data set that could not be had is tried for again so rarely. */
const AGAIN_MS = 30_000;
const CHANGES: ReadonlySet<Reason> = new Set<Reason>(['data change', 'quality change', 'data update', 'application']);
/** Reports that came before it was known whose they are. */
const MOST_EARLY = 5000;

export interface ReportSettings {
  integrityMs: number;
  bufferMs: number;
  reserveS: number;
}

export class Reports {
  readonly running: Running[] = [];
  private wanting: Assigned[] = [];
  private missing: { assigned: Assigned; words: string }[] = [];
  private againAt: Instant = Infinity;
  private early: Told[] = [];
  private trying = false;
  /** Data sets of ours that are being taken out of the device. */
  private leaving = 0;

  constructor(
    private readonly client: MmsClient,
    private readonly settings: ReportSettings,
    private readonly entries: Map<string, LastEntry>,
    private readonly events: ReportEvents,
  ) {}

  get deadline(): Instant {
    return this.againAt;
  }

  /** Why data sets are not reported, by their names. */
  get refusals(): string[] {
    return this.missing.map(({ words }) => words);
  }

  isHeld(block: Block): boolean {
    return this.running.some((one) => one.block.domain === block.domain && one.block.item === block.item);
  }

  /** Takes these data sets into use; what is running of them goes on. */
  want(assigned: readonly Assigned[], now: Instant): void {
    this.missing = [];
    this.wanting = [];
    for (const one of assigned) {
      const running = this.running.find(({ assigned: { set } }) => set.name === one.set.name);
      if (running === undefined) this.wanting.push(one);
      else {
        running.assigned = one;
        this.interrogate(now, running);
      }
    }
    // What was made for us is not left behind, and gone before its block is tried for again.
    this.leaving++;
    const left = (at: Instant): void => {
      this.leaving--;
      this.next(at);
    };
    for (const one of [...this.running]) {
      if (assigned.includes(one.assigned)) continue;
      this.running.splice(this.running.indexOf(one), 1);
      this.disable(one.block, now);
      if (!one.assigned.isMade) continue;
      this.leaving++;
      hold(this.client, removeSet(one.block), (_outcome, at) => left(at), now);
    }
    left(now);
  }

  private disable({ domain, item }: Block, now: Instant): void {
    const variables = { names: [{ name: { scope: 'domain' as const, domain, item: `${item}$RptEna` } }] };
    this.client.ask('write', { variables, values: [{ type: 'boolean', value: false }] }, () => {}, now);
  }

  wake(now: Instant): void {
    if (now < this.againAt) return;
    this.againAt = Infinity;
    this.wanting.push(...this.missing.splice(0).map(({ assigned }) => assigned));
    this.next(now);
  }

  private next(now: Instant): void {
    if (this.trying || this.leaving > 0) return;
    const assigned = this.wanting.shift();
    if (assigned !== undefined) {
      this.trying = true;
      this.tryFor(assigned, 0, [], now);
      return;
    }
    this.againAt = this.missing.length > 0 ? now + AGAIN_MS : Infinity;
    this.takeEarly(now);
    this.events.settled(now);
  }

  private takeEarly(now: Instant): void {
    for (const told of this.early.splice(0)) this.earlyTold(told, now);
  }

  private earlyTold: (told: Told, now: Instant) => void = () => {};

  /** Whoever makes readings of reports is also told those that came before their block was known. */
  onEarly(take: (told: Told, now: Instant) => void): void {
    this.earlyTold = take;
  }

  private tryFor(assigned: Assigned, at: number, refusals: readonly string[], now: Instant): void {
    const block = assigned.blocks[at];
    if (block === undefined) {
      const what = assigned.isMade ? `no data set for ${assigned.brings.size} points` : `data set ${assigned.set.name}`;
      const words = `${what} is ${assigned.isMade ? 'made' : 'not reported'}: ${refusals.at(-1) ?? 'it has no block'}`;
      this.missing.push({ assigned, words });
      this.events.note(words);
      this.trying = false;
      this.next(now);
      return;
    }
    const name = blockName(block);
    if (this.isHeld(block)) return this.tryFor(assigned, at + 1, refusals, now);
    const entry = this.entries.get(name);
    const subscription = new Subscription(
      this.client,
      {
        ...{ domain: block.domain, item: block.item, isBuffered: block.isBuffered, triggers: TRIGGERS },
        ...this.settings,
        entry: entry?.id ?? null,
        ...(assigned.isMade ? { members: assigned.set.members } : {}),
      },
      block.of,
      (result, later) => {
        if (typeof result === 'string') {
          if (this.client.isOpen) this.tryFor(assigned, at + 1, [...refusals, result], later);
          return;
        }
        for (const note of result.notes) this.events.note(`${name}: ${note}`);
        const newerThan = block.isBuffered && !result.goesOn ? (entry?.time ?? null) : null;
        const running: Running = {
          ...{ assigned, block, subscribed: result, segments: new Segments(), sequence: null, newerThan },
          ...{ reports: 0, gaps: 0, overflows: 0, last: null, shown: new Map(), past: new PastMessages() },
        };
        this.running.push(running);
        this.trying = false;
        // Before anything else of this block comes.
        this.takeEarly(later);
        this.interrogate(later, running);
        this.next(later);
      },
    );
    subscription.start(now);
  }

  /** All values of each are asked for. */
  interrogate(now: Instant, only?: Running): void {
    for (const running of only ? [only] : this.running) {
      const { block } = running;
      const { domain, item } = block;
      if (!hasInterrogation(block)) {
        this.events.unasked(running, now);
        continue;
      }
      const variables = { names: [{ name: { scope: 'domain' as const, domain, item: `${item}$GI` } }] };
      const told = (answer: Answer<'write'>, at: Instant): void => {
        const error = answer.ok ? (answer.response.results[0] ?? null) : null;
        const refused = answer.ok ? error !== null && accessErrorWords(error) : !answer.lost && answer.words;
        if (!refused) return;
        this.events.note(`${blockName(block)}: present values are not reported, and are read: ${refused}`);
        this.events.unasked(running, at);
      };
      this.client.ask('write', { variables, values: [{ type: 'boolean', value: true }] }, told, now);
    }
  }

  /** What is told unasked, as a report of ours; null: it is none, or not yet whole. */
  take(told: Told, now: Instant): Arrived | null {
    const { variables, results, octets } = told;
    if (variables.list?.scope !== 'vmd' || variables.list.item !== 'RPT') return null;
    const decoded = decodeReport(results, octets);
    if (!decoded.ok) {
      this.events.trouble(`a report that is not understood: ${decoded.problem}`, 'unusable');
      return null;
    }
    const running = this.ownerOf(decoded.value);
    if (running === undefined) {
      // Its block may be about to be ours: reports come before the answer that says so.
      if (this.trying && this.early.length < MOST_EARLY) this.early.push(told);
      // What cannot be kept would be lost: it comes again behind the last entry that was stored.
      else if (this.trying)
        this.client.abort(`more than ${MOST_EARLY} reports before it was known whose they are`, now);
      else this.events.trouble(`a report ${decoded.value.id} of nobody's`, 'unusable');
      return null;
    }
    const { report, problem } = running.segments.take(decoded.value);
    if (problem !== null) {
      running.gaps++;
      this.events.trouble(problem, 'gaps');
      this.interrogate(now, running);
    }
    if (report === null) return null;
    return this.arrived(running, report, now);
  }

  private ownerOf({ id, dataSet }: Report): Running | undefined {
    const own = this.running.filter(({ subscribed }) => subscribed.reportId === id || blockIdOf(subscribed, id));
    if (own.length < 2 || dataSet === null) return own[0];
    return own.find(({ subscribed }) => subscribed.dataSet === dataSet) ?? own[0];
  }

  private arrived(running: Running, report: Report, now: Instant): Arrived | null {
    const { block, assigned } = running;
    const name = blockName(block);
    if (report.size !== assigned.set.members.length) {
      this.events.trouble(
        `${name} reports ${report.size} members, its data set has ${assigned.set.members.length}`,
        'unusable',
      );
      return null;
    }
    running.reports++;
    if (report.overflow) {
      running.overflows++;
      this.events.trouble(`${name}: its buffer had overflown, what was lost there is not known`, 'overflows');
    }
    const { sequence } = report;
    if (sequence !== null && running.sequence !== null && !follows(running.sequence, sequence)) {
      running.gaps++;
      this.events.trouble(`${name}: report ${sequence} came behind ${running.sequence}`, 'gaps');
      if (!block.isBuffered) this.interrogate(now, running);
    }
    running.sequence = sequence;
    const entryTime = report.time === null ? null : decodeEntryTime(report.time);
    const had = running.newerThan !== null && entryTime !== null && entryTime <= running.newerThan;
    if (had && report.members.some(({ reasons }) => reasons.some((one) => CHANGES.has(one)))) return null;
    if (block.isBuffered && report.entry !== null) this.entries.set(name, { id: report.entry, time: entryTime });
    // Where reasons are not said, a report of everything is no change.
    const all = report.members.length === report.size;
    const came = report.members.map(({ place, value, reasons, from }) => ({
      member: place,
      value,
      from: from ?? null,
      event: reasons.length > 0 ? reasons.some((one) => CHANGES.has(one)) : !all,
    }));
    return { running, report, came, entryTime };
  }
}

/** The number behind another: by one, or from its end to 0 (of 8 or 16 bits). */
const follows = (before: number, now: number): boolean =>
  now === before + 1 || (now === 0 && (before === 0xff || before === 0xffff));

/** A block without an id of its own reports under its reference, in one way of writing it or another. */
const blockIdOf = ({ reportId }: Subscribed, id: string): boolean =>
  reportId.replaceAll('$', '.') === id.replaceAll('$', '.');

/** Blocks of edition 1 that are not buffered may have none. */
const hasInterrogation = ({ of }: Block): boolean =>
  of.type === 'structure' && of.components.some(({ name }) => name === 'GI');
