import type { Instant } from '../../../session/index.ts';
import type { ClientCommand, ClientNews, ClientOptions, DetailTable, FileOrder, SurveyedPoint } from '../../client.ts';
import type { ControlOrder } from '../../control.ts';
import type { MmsClient, Told } from '../../mms/client.ts';
import { ClientSession, type Associated } from '../../mms/clientsession.ts';
import { hold } from '../../mms/dialogue.ts';
import { accessErrorWords } from '../../mms/wire/data.ts';
import { CounterSet, type CounterName } from '../counters.ts';
import { print } from '../model/reference.ts';
import type { Order } from '../order.ts';
import { referenceOf, type IecAt } from '../points.ts';
import { reasonsIn, reasonsWords, reportWords } from '../report.ts';
import { callingSettings } from '../../mms/settings.ts';
import { type ClientSettings } from '../settings.ts';
import { assign, assignMade, blockName } from './blocks.ts';
import { Controls } from './controls.ts';
import { CarryingMessage } from '../../mms/carrying.ts';
import { Delays } from '../../mms/delays.ts';
import { Explorer, type Explored } from './explorer.ts';
import { askFile } from './files.ts';
import { ABOUT, Held, type Came, type ModelReading } from './held.ts';
import { inquiryOf } from './inquiries/index.ts';
import { packed, unpacked } from './keep.ts';
import { inPieces, planReads, type Round } from './reads.ts';
import { changesIn, valuesIn } from './attributes.ts';
import { Reports, type Arrived, type Running } from './reports.ts';
import { survey } from './survey.ts';
import { wantedOf, type NodeTypes, type Wanted } from './wanted.ts';

/*
 * Our side towards one IEC 61850 server; how its association lives stands in `ClientSession`. While it explores, names,
 * types, blocks and data sets are asked for; while it runs, reports are in use and the rest is polled. Another list is
 * explored anew, and what stays goes on meanwhile.
 *
 * Rules:
 *  1. Which reports bring most of the list is found out on line; what none brings is polled, data sets first.
 *  2. Readings of buffered reports are handed out with the entry they end with, which is stored with them: a later
 *     session goes on behind it.
 *  3. A read that is not answered is asked again at its next turn; a control never is.
 */

const EMPTY = new Uint8Array(0);
/** What could not be read is asked for again so rarely. */
const REFUSED_PAUSE_MS = 60_000;
/** Of the table of reports: the column of gaps; that of overflows is behind it. */
const GAPS_AT = 6;

/** What is known while an association stands. */
interface Own {
  explored: Explored | null;
  reports: Reports;
  rounds: Round[];
  held: Held;
}
type Known = Associated<Own>;

export class IecClient extends ClientSession<IecAt, Order, Own, CounterName> {
  private readonly entries;
  private readonly controls: Controls;
  private readonly delays = { report: new Delays(), poll: new Delays() };

  constructor(
    private readonly settings: ClientSettings,
    now: Instant,
    options: ClientOptions<IecAt>,
  ) {
    const { responseTimeoutMs, keepAliveMs } = settings;
    const association = { ...callingSettings(settings), responseTimeoutMs };
    super({ association, keepAliveMs }, new CounterSet(now), now, options);
    this.entries = unpacked(options.remembered);
    this.controls = new Controls(settings, (id, step) => this.effects.push({ type: 'control', id, ...step }));
  }

  get keep(): Uint8Array {
    return this.entries.size === 0 ? EMPTY : packed(this.entries);
  }

  get atRest(): boolean {
    const { standing } = this;
    if (this.state !== 'running' || standing === null || this.controls.size > 0) return false;
    return standing.client.atRest && !standing.rounds.some(({ due, asked }) => due !== null && !asked);
  }

  get indications(): string[] {
    return this.standing?.reports.refusals ?? [];
  }

  /** How much of the list comes which way. */
  get ways(): { reported: number; polled: number; unreadable: number } {
    const { standing } = this;
    if (standing?.explored == null) return { reported: 0, polled: 0, unreadable: 0 };
    const unreadable = standing.unreadable.size;
    const brought = new Set(standing.reports.running.flatMap(({ assigned }) => [...assigned.brings]));
    return { reported: brought.size, polled: this.wanted.length - brought.size, unreadable };
  }

  // ---- the association

  protected own(client: MmsClient): Own {
    const reports = new Reports(client, this.settings, this.entries, {
      trouble: (words, what) => {
        this.counters.add(what);
        this.effects.push({ type: 'diagnostic', words });
      },
      note: (words) => this.note(words),
      unasked: (running, at) => this.readOnce(running, at),
      settled: (at) => this.onReportsSettled(at),
    });
    reports.onEarly((told, at) => this.onTold(told, at));
    return { explored: null, reports, rounds: [], held: new Held() };
  }

  protected lost(): void {
    this.controls.lost();
  }

  protected get ownDeadline(): Instant {
    return this.controls.deadline;
  }
  protected wakeOwn(now: Instant): void {
    this.controls.wake(now);
  }

  protected runningDeadline({ reports, rounds }: Known): Instant {
    const times = rounds.map(({ due, underWay }) => (due === null || underWay ? Infinity : due));
    return Math.min(reports.deadline, ...times);
  }
  protected wakeRunning(standing: Known, now: Instant): void {
    standing.reports.wake(now);
    for (const round of standing.rounds)
      if (round.due !== null && !round.underWay && now >= round.due) this.read(standing, round, now);
  }

  // ---- what there is, and how it comes

  protected explore(standing: Known, now: Instant): void {
    this.state = 'exploring';
    const nodes = new Set(
      this.points.map(({ at }) => {
        const { device, node } = referenceOf(at);
        return `${device}/${node}`;
      }),
    );
    const asked = this.points;
    new Explorer(standing.client, (explored, at) => {
      if (this.standing !== standing || !standing.client.isOpen) return;
      // Another list came meanwhile.
      if (asked !== this.points) this.explore(standing, at);
      else this.onExplored(standing, explored, at);
    }).start(nodes, this.settings.reports !== 'none', now);
    this.collect(now);
  }

  private onExplored(standing: Known, explored: Explored, now: Instant): void {
    standing.explored = explored;
    for (const problem of explored.problems) this.note(problem);
    this.explored(now);
    const wanted: Wanted[] = [];
    standing.unreadable.clear();
    for (const point of this.points) {
      const one = wantedOf(point, explored.types);
      if (typeof one === 'string') standing.unreadable.set(point.id, one);
      else wanted.push(one);
    }
    standing.held = new Held();
    this.tellUnreadable(standing);
    const { reports: prefers } = this.settings;
    const { blocks, spare, sets, types } = explored;
    const how = { prefers, held: standing.reports.isHeld.bind(standing.reports) };
    const found = assign(wanted, blocks, sets, types, how);
    const made = this.settings.makeSets ? assignMade(found.rest, spare, types, how) : { reports: [], rest: found.rest };
    const assignment = { reports: [...found.reports, ...made.reports], rest: made.rest };
    this.wanted = wanted;
    // Until a report brings them, present values are read at once.
    standing.rounds = this.roundsFor(standing, assignment.rest, this.settings.pollMs, now);
    standing.reports.want(assignment.reports, now);
    this.collect(now);
  }

  private wanted: readonly Wanted[] = [];

  /** What no report brings after all is polled. */
  private onReportsSettled(now: Instant): void {
    const { standing } = this;
    if (standing?.explored == null) return;
    const brought = new Set(standing.reports.running.flatMap(({ assigned }) => [...assigned.brings]));
    const rest = this.wanted.filter((one) => !brought.has(one));
    const { pollMs, alsoPollMs } = this.settings;
    standing.rounds = [
      // What is read once is still to come.
      ...standing.rounds.filter(({ once }) => once),
      ...this.roundsFor(standing, rest, pollMs, now),
      ...(alsoPollMs > 0 ? this.roundsFor(standing, [...brought], alsoPollMs, now) : []),
    ];
    for (const round of standing.rounds) if (!round.once) this.read(standing, round, now);
  }

  private readOnce({ assigned }: Running, now: Instant): void {
    const { standing } = this;
    if (standing === null) return;
    const rounds = this.roundsFor(standing, [...assigned.brings], 0, now).map((round) => ({
      ...round,
      once: true as const,
    }));
    standing.rounds.push(...rounds);
    for (const round of rounds) this.read(standing, round, now);
  }

  private roundsFor(standing: Known, wanted: readonly Wanted[], periodMs: number, now: Instant): Round[] {
    const { explored, client } = standing;
    if (explored === null || wanted.length === 0) return [];
    const reads = planReads(wanted, explored.sets, explored.types, client.agreement?.size ?? DEFAULT_SIZE);
    return reads.map((read) => ({ read, periodMs, due: now, underWay: false, asked: false }));
  }

  private read(standing: Known, round: Round, now: Instant): void {
    round.underWay = true;
    round.asked = true;
    const { variables, placings, words } = round.read;
    this.ask(standing, 'read', { variables }, now, (answer, at, octets) => {
      round.underWay = false;
      if (!standing.rounds.includes(round)) return;
      round.due = round.periodMs === 0 ? null : Math.max(at, now + round.periodMs);
      const points = placings.flatMap((ones) => ones.map(({ wanted }) => wanted.point.id));
      if (!answer.ok) {
        if (answer.lost) return;
        // It may be longer than what was agreed on.
        const pieces = standing.explored && inPieces(round.read, standing.explored.types);
        if (pieces !== null) {
          const rounds = pieces.map((read) => ({ ...round, read, due: at, asked: false }));
          standing.rounds = standing.rounds.flatMap((one) => (one === round ? rounds : [one]));
          return;
        }
        round.due = at + Math.max(REFUSED_PAUSE_MS, round.periodMs);
        this.endOnce(standing, round);
        this.refuse(standing, points, `${words}: ${answer.words}`);
        return;
      }
      this.endOnce(standing, round);
      const came: Came[] = answer.response.results.map((value, member) => ({
        ...{ member, value, event: false },
        from: octets === null ? null : { message: octets, at: member },
      }));
      const failed = came.flatMap(({ member, value }) =>
        value.type === 'failure' ? (placings[member] ?? []).map((one) => ({ one, code: value.code })) : [],
      );
      const refused = new Set(failed.map(({ one }) => one.wanted.point.id));
      const again = points.filter((id) => !refused.has(id));
      const wasRefused = again.some((id) => standing.unreadable.delete(id));
      for (const { one, code } of failed)
        this.refuse(standing, [one.wanted.point.id], `${print(one.wanted.value)}: ${accessErrorWords(code)}`);
      if (wasRefused && failed.length === 0) this.tellUnreadable(standing);
      const good = came.filter(({ value }) => value.type !== 'failure');
      const readings = standing.held.take(placings, good, null);
      this.counters.add('polledValues', readings.length);
      for (const { time } of readings) if (time !== null) this.delays.poll.add(at - time);
      this.handOut(readings, () => `read response: ${words}`, false);
    });
  }

  private endOnce(standing: Known, round: Round): void {
    if (round.once) standing.rounds = standing.rounds.filter((one) => one !== round);
  }

  private handOut(readings: readonly ModelReading[], words: () => string, kept: boolean): void {
    if (readings.length === 0) return;
    const carried = new CarryingMessage(words, ABOUT);
    // The device waits for nothing: what it still has is asked for behind the entry that is kept.
    this.effects.push({ type: 'readings', readings, carried, token: null, keep: kept ? this.keep : null });
  }

  // ---- what is told unasked

  protected onTold(told: Told, now: Instant): void {
    const { standing } = this;
    if (standing === null || this.controls.onTold(told)) return;
    const arrived = standing.reports.take(told, now);
    if (arrived !== null) this.onReport(standing, arrived, now);
  }

  private onReport(standing: Known, { running, report, came, entryTime }: Arrived, now: Instant): void {
    this.counters.add('reports');
    this.counters.add('reportedValues', came.length);
    this.answered();
    const { block, assigned, subscribed } = running;
    if (report.revision !== null && report.revision !== subscribed.revision) {
      this.effects.push({
        type: 'diagnostic',
        words: `${blockName(block)}: its data set is revision ${report.revision} now, ${subscribed.revision} was known`,
      });
      standing.client.abort('the model has changed', now);
      return;
    }
    const types: NodeTypes = standing.explored?.types ?? ((): null => null);
    const readings = standing.held.take(assigned.placings, came, entryTime);
    const before = new Map(came.map(({ member }) => [member, running.shown.get(member)] as const));
    for (const { member, value } of came) running.shown.set(member, value);
    running.last = { at: now, report, before };
    const { members } = assigned.set;
    running.past.add(now, reasonsIn(report).join(', '), () => valuesIn(members, report, types));
    for (const { event, time } of readings) if (event && time !== null) this.delays.report.add(now - time);
    this.handOut(readings, () => `report ${reportWords(report)}`, block.isBuffered && report.entry !== null);
  }

  // ---- what people and the engine want

  command(command: ClientCommand<IecAt, Order>, now: Instant): void {
    const { standing } = this;
    switch (command.type) {
      case 'committed':
        break;
      case 'setPoints':
        this.points = command.points;
        if (standing !== null && this.state === 'running') this.explore(standing, now);
        break;
      case 'control':
        this.counters.add('controls');
        this.control(command, now);
        break;
      case 'setSettings':
        // None of them is the session's own.
        break;
      case 'pollNow':
        if (standing === null || this.state !== 'running') break;
        standing.reports.interrogate(now);
        for (const round of standing.rounds) if (!round.underWay) this.read(standing, round, now);
        break;
      case 'survey':
        this.survey(command.id, now);
        break;
      case 'order':
        this.order(command.id, command.order, now);
        break;
      case 'resetCounters':
        this.counters.reset(now);
        break;
      case 'guest':
        // Its conversations are for itself.
        break;
      default:
        command satisfies never;
    }
    this.collect(now);
  }

  protected operate(control: ControlOrder<IecAt>, { client, explored }: Known, now: Instant): void {
    this.controls.add(control, client, explored?.types ?? ((): null => null), now);
  }

  private survey(id: string, now: Instant): void {
    const { standing } = this;
    const end = (problem: string | null, rest: Partial<ClientNews & { type: 'surveyed' }> = {}): void =>
      void this.effects.push({ type: 'surveyed', id, problem, found: [], attributes: [], ...rest });
    if (!standing?.client.isOpen) return end('the device is not associated');
    this.ask(standing, 'identify', {}, now, (answer, at) => {
      const attributes = answer.ok
        ? Object.entries(answer.response).map(([name, text]) => ({ name, text: String(text) }))
        : [];
      survey(
        standing.client,
        ({ model, found, problems }) => {
          const problem = model === null || problems.length > 0 ? problems.slice(0, 5).join('; ') : null;
          end(problem, { found: this.asListed(found), attributes });
        },
        at,
      );
      this.collect(at);
    });
  }

  /** What was found for a point of the list is called as the list calls it: a data object stands for its value. */
  private asListed(found: readonly SurveyedPoint[]): SurveyedPoint[] {
    const own = new Map(
      this.wanted
        .filter(({ point }) => point.at.fc !== 'CO')
        .map(({ point, value }) => [print(value), `${point.at.reference}[${point.at.fc}]`] as const),
    );
    return found.map((one) => ({ ...one, address: own.get(one.address) ?? one.address }));
  }

  private order(id: string, order: Order | FileOrder, now: Instant): void {
    const { standing } = this;
    const end = (problem: string | null, answer = {}): void =>
      void this.effects.push({ type: 'ordered', id, problem, answer });
    if (!standing?.client.isOpen) return end('the device is not associated');
    switch (order.what) {
      case 'identify':
        this.ask(standing, 'identify', {}, now, (answer) => {
          if (!answer.ok) return end(answer.words);
          const { vendor, model, revision } = answer.response;
          end(null, { words: `${vendor}, ${model}, ${revision}` });
        });
        break;
      case 'interrogate':
        if (standing.reports.running.length === 0) return end('nothing of it is reported');
        standing.reports.interrogate(now);
        end(null, { words: `${standing.reports.running.length} reports were asked for` });
        break;
      case 'directory':
      case 'readFile':
      case 'deleteFile': {
        const progress = (octets: number): void => void this.effects.push({ type: 'fileProgress', id, octets });
        askFile(standing.client, order, { progress, done: end }, now);
        break;
      }
      default:
        hold(
          standing.client,
          inquiryOf(order, this.settings.originator, now),
          (outcome) => (outcome.ok ? end(null, outcome.value) : end(outcome.problem)),
          now,
        );
    }
  }

  // ---- for those who look

  get details(): readonly DetailTable[] {
    const { standing } = this;
    if (standing === null) return [];
    const { running } = standing.reports;
    const { explored } = standing;
    const { ways } = this;
    const ms = (value: number): string => `${Math.round(value)} ms`;
    const delayRow = (key: 'report' | 'poll', way: string): DetailTable['rows'][number] => {
      const { count, summary } = this.delays[key];
      const points = key === 'report' ? ways.reported : ways.polled;
      return {
        key,
        cells: [way, String(points), String(count), summary ? ms(summary.median) : '', summary ? ms(summary.most) : ''],
      };
    };
    return [
      {
        ...{ key: 'reports', title: 'Reports' },
        columns: ['Block', 'Data set', 'Points', 'Reports', 'Number', 'Last', 'Gaps', 'Overflows'],
        rows: running.map(({ block, assigned, subscribed, reports, sequence, last, past, gaps, overflows }) => ({
          key: blockName(block),
          cells: [
            blockName(block),
            assigned.isMade ? `${subscribed.dataSet}, made for us` : assigned.set.name,
            String(assigned.brings.size),
            String(reports),
            sequence === null ? '' : String(sequence),
            last === null
              ? 'none yet'
              : `${last.report.members.length} of ${last.report.size}${reasonsWords(last.report)}`,
            ...[String(gaps), String(overflows)],
          ],
          time: last?.at ?? null,
          past: past.shown,
          odd: [...(gaps > 0 ? [GAPS_AT] : []), ...(overflows > 0 ? [GAPS_AT + 1] : [])],
          more: {
            columns: ['Reference', 'Before', 'Now', 'Reason'],
            rows: last === null || explored === null ? [] : changesIn(assigned.set.members, last, explored.types),
          },
        })),
      },
      {
        ...{ key: 'delays', title: 'From the device’s time to here' },
        columns: ['Way', 'Points', 'Values', 'Median', 'Most'],
        rows: [delayRow('report', 'changes reported'), delayRow('poll', 'present values read')],
      },
      this.messageTable,
    ];
  }
}

const DEFAULT_SIZE = 8000;
