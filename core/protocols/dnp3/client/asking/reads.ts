import type { Instant } from '../../../../session/index.ts';
import type { MasterSettings } from '../../settings.ts';
import { iinWords, refusalOf } from '../../wire/application.ts';
import { PollSchedule } from '../../../polling/schedule.ts';
import { ReadPlan, readsPresent, type ReadPart } from './readplan.ts';
import { Priority } from '../../../../line/index.ts';
import { ALL_CLASSES, type Answer, type WaitingTask } from '../task.ts';
import type { PresentRound } from '../intake/presentround.ts';
import { read } from '../tasks/index.ts';

const NO_ROUND = { lost: () => {}, ends: () => {} };
/** Indications that events of a class wait. */
const EVENT_BITS = 0x0e;
/** So many rounds by object may bring nothing before classes are compared, though the device says that nothing waits. */
const MOST_DOUBT = 30;

const POLLS = ['integrity', 'class1', 'class2', 'class3'] as const;
type PollName = (typeof POLLS)[number];

/** On a shared line, how long events go before an integrity poll that is due. */
const INTEGRITY_PATIENCE_MS = 10_000;
/** Reads one after the other only to see whether what came is a repetition. */
const MAX_CHECKS = 3;
/** While a commit is awaited present values are read no more often. */
const PRESENT_PAUSE_MS = 2000;

/**
 * What is read when: polls at their periods, the parts of one that takes several requests, and at once what the last
 * answer gives reason to ask for again.
 *
 *  - Events are asked for again at once only after an answer that brought new ones: when the device says that more wait,
 *    or when what came could be brought forth again and has to be told from a repetition (see `ReplayGuard`).
 *  - What a device refuses is asked for in another way (`ReadPlan`), and remembered.
 *  - While events cannot be stored none are asked for: at the polls' times the present values are, so that nobody goes
 *    blind because of a disk.
 */
export class Reads {
  readonly plan: ReadPlan;
  readonly polls: PollSchedule<PollName>;
  /** Reads that belong to a poll which takes several, the next one first. */
  private parts: ReadPart[] = [];
  private partsSince: Instant = 0;
  /** Event classes to be asked for again at once. */
  private followUp: number[] = [];
  private followUpSince: Instant = 0;
  private checks = 0;
  /** It was said that events wait which the device does not bring. */
  private stuckNoted = false;
  /** Indications of a refusal that the device sets whatever it is asked. */
  private meaningless = 0;

  constructor(
    private readonly settings: MasterSettings,
    now: Instant,
    /** What people are told. */
    private readonly say: (words: string) => void,
    /** How the device has to be asked, as far as that was learned. */
    private readonly learned: () => string | null,
    phase?: number,
    /** A round of present values. */
    private readonly round: Pick<PresentRound, 'lost' | 'ends'> = NO_ROUND,
    /** Whether parts of it still wait elsewhere. */
    private readonly hasMore: () => boolean = () => false,
  ) {
    this.plan = new ReadPlan(settings);
    const { integrityPeriodMs, class1PeriodMs, class2PeriodMs, class3PeriodMs } = settings;
    this.polls = new PollSchedule(
      { integrity: integrityPeriodMs, class1: class1PeriodMs, class2: class2PeriodMs, class3: class3PeriodMs },
      now,
      phase,
    );
  }

  /** Forgets what was under way; the polls go on at their times. */
  drop(): void {
    this.parts = [];
    this.followUp = [];
  }

  /** A connection begins or ends. */
  forget(): void {
    this.drop();
    this.checks = 0;
  }

  /** Something is to be read before the polls' times. */
  get underWay(): boolean {
    return this.parts.length + this.followUp.length > 0;
  }

  /** What is to be read now. On a `shared` line events go before present values for a while. */
  next(now: Instant, shared: boolean): WaitingTask | null {
    const { polls } = this;
    // Asked after each octet that comes: nearly always nothing is due.
    if (!this.underWay && now < (polls.earliest ?? Infinity)) return null;
    const due = ([1, 2, 3] as const).filter((n) => polls.dueSince(`class${n}`, now) !== null);
    const advanceClasses = (at: Instant): void => {
      // Each poll at its time may be looked behind anew: a device that always has something new comes to no rest.
      if (due.length > 0) this.checks = 0;
      due.forEach((n) => polls.advance(`class${n}`, at));
    };
    const integrity = polls.dueSince('integrity', now);
    const [part] = this.parts;
    if (part !== undefined) {
      const priority = readsPresent(part) && integrity === null ? Priority.integrity : Priority.events;
      return { task: part, priority, since: this.partsSince, taken: () => this.parts.shift() };
    }
    const waits = due.length > 0 || this.followUp.length > 0;
    const patient = shared && integrity !== null && now - integrity < INTEGRITY_PATIENCE_MS;
    if (integrity !== null && !(patient && waits)) {
      const priority = patient ? Priority.integrity : Priority.events;
      return this.inParts(ALL_CLASSES, priority, integrity, now, (at) => {
        advanceClasses(at);
        polls.advance('integrity', at);
      });
    }
    if (!waits) return null;
    const classes = ([1, 2, 3] as const).filter((n) => due.includes(n) || this.followUp.includes(n));
    const since = Math.min(
      this.followUp.length > 0 ? this.followUpSince : now,
      ...due.map((n) => polls.dueSince(`class${n}`, now) ?? now),
    );
    return this.inParts(classes, Priority.events, since, now, advanceClasses);
  }

  /** The same while events are not to be asked for. */
  presentOnly(now: Instant): WaitingTask | null {
    const { polls } = this;
    this.parts = this.parts.filter((one) => readsPresent(one) && one.classes.every((n) => n === 0));
    const [part] = this.parts;
    if (part !== undefined)
      return { task: part, priority: Priority.events, since: this.partsSince, taken: () => this.parts.shift() };
    const due = POLLS.filter((poll) => polls.dueSince(poll, now) !== null);
    if (due.length === 0 || now < this.presentNotBefore) return null;
    return this.inParts([0], Priority.events, now, now, (at) => {
      this.presentNotBefore = at + PRESENT_PAUSE_MS;
      // An integrity poll stays due: it has the events too.
      for (const poll of due) if (poll !== 'integrity') polls.advance(poll, at);
    });
  }
  /** When present values may be read next while a commit is awaited. */
  presentNotBefore: Instant = 0;

  /** The first of the requests that read these classes; the others follow it. */
  private inParts(
    classes: readonly number[],
    priority: Priority,
    since: Instant,
    now: Instant,
    advance: (now: Instant) => void,
  ): WaitingTask | null {
    const [first, ...others] = this.plan.parts(classes);
    const taken = (at: Instant): void => {
      advance(at);
      this.followUp = [];
      this.parts = others;
      this.partsSince = at;
    };
    if (first !== undefined) return { task: first, priority, since, taken };
    // It has none of these.
    taken(now);
    return null;
  }

  askAgain(classes: readonly number[], now: Instant): void {
    if (this.followUp.length === 0) this.followUpSince = now;
    this.followUp = [...new Set([...this.followUp, ...classes])];
  }

  answered(task: ReadPart, answer: Answer, now: Instant): void {
    if (task.compares) this.compared(task, answer, now);
    else if (answer.unreadable) this.readOtherwise(task, 'unreadable', now);
    else if (this.isRefused(task, answer))
      this.readOtherwise(task, 'refused', now, iinWords(refusalOf(answer.fragment)).join(', '));
    else {
      this.plan.understood(task);
      this.considerAskingAgain(task, answer, now);
    }
    if (task.groups !== undefined && !readsPresent(task)) this.askedByObject(task, answer, now);
    if (readsPresent(task) && !this.parts.some(readsPresent) && !this.hasMore())
      this.round.ends(this.plan.missesPresent);
  }

  /** Whether asking by object brings what there is shows at the end of each round. */
  private askedByObject(task: ReadPart, { fragment, groups }: Answer, now: Instant): void {
    const { round } = this.byObject;
    for (const group of groups) round.add(group);
    if (task.closes !== true) return;
    const waits = ((fragment.iin ?? 0) & EVENT_BITS) !== 0;
    const { suspected } = this.byObject;
    const isProven = [...suspected].some((group) => !round.has(group));
    if (this.plan.isCompared && isProven) this.giveUpObjects(now);
    if (round.size > 0) this.byObject.everBrought = true;
    // More is waited for where it brings something: what waits may be new.
    const weight = waits ? (round.size > 0 ? 3 : 15) : round.size > 0 ? -MOST_DOUBT : 1;
    this.byObject.doubt = Math.max(0, this.byObject.doubt + weight);
    this.byObject.suspected = new Set();
    this.byObject.round = new Set();
    if (!this.plan.isCompared || this.byObject.doubt < MOST_DOUBT) return;
    this.byObject.doubt = 0;
    if (this.parts.length === 0) this.partsSince = now;
    this.parts.push(...this.plan.comparing());
  }
  private byObject = {
    /** Groups of which this round has brought events. */
    round: new Set<number>(),
    everBrought: false,
    doubt: 0,
    /** Groups of which a class has events: the next round brings them, or it is given up. */
    suspected: new Set<number>(),
  };

  /** A class was read beside asking by object. */
  private compared({ classes }: ReadPart, { unreadable, groups, fragment }: Answer, now: Instant): void {
    const waits = ((fragment.iin ?? 0) & EVENT_BITS) !== 0;
    if (!unreadable && groups.size > 0) {
      this.plan.forget();
      this.endComparing();
    } else if (unreadable && groups.size > 0) for (const group of groups) this.byObject.suspected.add(group);
    else if (unreadable && waits && !this.byObject.everBrought) this.giveUpObjects(now, classes);
  }

  private giveUpObjects(now: Instant, classes: readonly number[] = [1, 2, 3]): void {
    this.plan.giveUpObjects();
    this.askAgain(classes, now);
    this.endComparing();
  }
  private endComparing(): void {
    this.parts = this.parts.filter(({ compares }) => compares !== true);
    this.say(`from now on: ${this.learned() ?? 'as set'}`);
  }

  /** Whether a read is refused. A device that says so of what it answers says it always. */
  private isRefused(task: ReadPart, { fragment, objects }: Answer): boolean {
    const refusal = refusalOf(fragment) & ~this.meaningless;
    if (refusal === 0) return false;
    if (!objects || task.classes.length > 1) return true;
    this.meaningless |= refusal;
    this.plan.forget();
    return false;
  }

  /** What was refused, or could not be read, is asked for in another way. */
  private readOtherwise(task: ReadPart, how: 'refused' | 'unreadable', now: Instant, refusal = ''): void {
    const before = this.learned();
    const instead = this.plan.refused(task, how);
    if (readsPresent(task) && instead.length === 0) this.round.lost();
    if (this.parts.length === 0) this.partsSince = now;
    // What still stands in line was asked in the old way.
    if (instead.length > 0) this.parts = [...instead, ...this.parts.filter((part) => !overlaps(part, instead))];
    if (refusal !== '') this.say(`request refused: ${read.words(task)}: ${refusal}`);
    const after = this.learned();
    if (after !== before) this.say(`from now on: ${after ?? 'as set'}`);
  }

  /** More events than one answer holds, or such as may have come twice: ask on, as long as answers bring new ones. */
  private considerAskingAgain(task: ReadPart, answer: Answer, now: Instant): void {
    const { fragment, fresh, ambiguous, repeated, objects } = answer;
    const { confirm } = fragment.control;
    const iin = fragment.iin ?? 0;
    const waiting = task.classes.filter((n) => n > 0 && iin & (1 << n));
    const all = task.classes.length > 0 ? task.classes.filter((n) => n > 0) : [1, 2, 3];
    if (repeated && this.checks < MAX_CHECKS && this.settings.pollAgain) {
      // Is it through now?
      this.checks++;
      this.askAgain(all, now);
      return;
    }
    if (fresh === 0) {
      this.checks = 0;
      if (waiting.length > 0 && objects && confirm && !this.stuckNoted) {
        this.stuckNoted = true;
        this.say(
          `says that events of class ${waiting.join(', ')} wait, but brings none that are new; asked at its polls' times`,
        );
      }
      return;
    }
    this.stuckNoted = false;
    if (!this.settings.pollAgain || !confirm) return;
    if (waiting.length > 0) this.askAgain(waiting, now);
    if (ambiguous && this.checks < MAX_CHECKS) {
      this.checks++;
      this.askAgain(all, now);
    } else if (!ambiguous) this.checks = 0;
  }
}

const overlaps = (part: ReadPart, instead: readonly ReadPart[]): boolean =>
  instead.some(
    (one) => one.classes.some((n) => part.classes.includes(n)) || one.groups?.join() === part.groups?.join(),
  );
