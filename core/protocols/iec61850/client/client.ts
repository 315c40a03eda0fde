import type { Wish } from '../../../line/index.ts';
import type { Instant } from '../../../session/index.ts';
import type {
  Client,
  ClientCommand,
  ClientNews,
  ClientOptions,
  ClientPoint,
  DetailTable,
  FileOrder,
  SurveyedPoint,
} from '../../client.ts';
import { MmsClient, type Answer, type Told } from '../../mms/client.ts';
import { hold } from '../../mms/dialogue.ts';
import { accessErrorWords } from '../../mms/wire/data.ts';
import type { ServiceName } from '../../mms/wire/services.ts';
import { CounterSet } from '../counters.ts';
import { print } from '../model/reference.ts';
import type { Order } from '../order.ts';
import { referenceOf, type IecAt } from '../points.ts';
import { reasonsWords, reportWords } from '../report.ts';
import { callingSettings, type ClientSettings } from '../settings.ts';
import { assign, assignMade, blockName } from './blocks.ts';
import { Controls } from './controls.ts';
import { Delays } from './delays.ts';
import { Explorer, type Explored } from './explorer.ts';
import { askFile } from './files.ts';
import { CarryingMessage, Held, type Came, type ModelReading } from './held.ts';
import { inquiryOf } from './inquiries/index.ts';
import { packed, unpacked } from './keep.ts';
import { planReads, type Round } from './reads.ts';
import { changesIn } from './attributes.ts';
import { Reports, type Arrived } from './reports.ts';
import { survey } from './survey.ts';
import { wantedOf, type Wanted } from './wanted.ts';

/*
 * Our side towards one IEC 61850 server. It has its connection for itself: what it sends needs no turn.
 *
 * state        what happens                                       becomes      and then
 * -----------  -------------------------------------------------  -----------  --------------------------------------
 * down         the connection is there                            associating  the association is asked for
 * associating  it is made                                         exploring    names, types, blocks and data sets
 * exploring    all is answered                                    running      reports are taken into use, the rest is
 *                                                                              polled
 * running      another list                                       exploring    what stays goes on meanwhile
 * any          refused, aborted, three requests unanswered        down         silent; the connection is hung up
 * any          the connection is lost                             down         silent once it is away too long
 *
 * Rules:
 *  1. Which reports bring most of the list is found out on line; what none brings is polled, data sets first.
 *  2. Readings of buffered reports are handed out with the entry they end with, which is stored with them: a later
 *     session goes on behind it.
 *  3. A device that has said nothing for `keepAliveMs` is asked whether it is there.
 *  4. A read that is not answered is asked again at its next turn; a control never is.
 */

const EMPTY = new Uint8Array(0);
/** What could not be read is asked for again so rarely. */
const REFUSED_PAUSE_MS = 60_000;
/** Of the table of reports: the column of gaps; that of overflows is behind it. */
const GAPS_AT = 6;

type State = 'down' | 'associating' | 'exploring' | 'running';

/** What is known while an association stands. */
interface Standing {
  client: MmsClient;
  explored: Explored | null;
  reports: Reports;
  rounds: Round[];
  held: Held;
  /** Points that cannot be had, by their numbers, and why. */
  unreadable: Map<number, string>;
  lastHeard: Instant;
  /** Whether the device is being asked if it is there. */
  asking: boolean;
  counted: { requests: number; responses: number; errors: number; timeouts: number };
}

export class IecClient implements Client<IecAt, Order, Uint8Array> {
  readonly share = 1;
  readonly holdsLine = false;
  readonly nextIntegrity = null;
  readonly learned = null;
  readonly counters: CounterSet;
  private effects: (ClientNews | { type: 'send'; octets: Uint8Array })[] = [];
  private state: State = 'down';
  private silent: boolean | null = null;
  private standing: Standing | null = null;
  private points: readonly ClientPoint<IecAt>[];
  private readonly entries;
  private readonly controls: Controls;
  private token = 0;
  private lossAt: Instant | null;
  private roundTripMs = 0;
  private readonly delays = { report: new Delays(), poll: new Delays() };
  /** How often each way was the first to bring a change; what was read of each reported point, and when. */
  private readonly notes = new Set<string>();

  constructor(
    private readonly settings: ClientSettings,
    now: Instant,
    private readonly options: ClientOptions<IecAt>,
  ) {
    this.counters = new CounterSet(now);
    this.points = options.points;
    this.entries = unpacked(options.remembered);
    this.lossAt = now + this.patienceMs;
    this.controls = new Controls(settings, (id, step) => this.effects.push({ type: 'control', id, ...step }));
  }

  private get patienceMs(): number {
    return this.options.absenceMs ?? this.settings.associateTimeoutMs;
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

  // ---- the line

  start(now: Instant): void {
    this.end('another connection', now);
    this.state = 'associating';
    this.lossAt = null;
    const client = new MmsClient(
      { ...callingSettings(this.settings), responseTimeoutMs: this.settings.responseTimeoutMs },
      (told, at) => this.onTold(told, at),
    );
    const reports = new Reports(client, this.settings, this.entries, {
      trouble: (words, what) => {
        this.counters.add(what);
        this.effects.push({ type: 'diagnostic', words });
      },
      note: (words) => this.note(words),
      settled: (at) => this.onReportsSettled(at),
    });
    reports.onEarly((told, at) => this.onTold(told, at));
    this.standing = {
      ...{ client, explored: null, reports, rounds: [], held: new Held(), unreadable: new Map() },
      ...{ lastHeard: now, asking: false, counted: { requests: 0, responses: 0, errors: 0, timeouts: 0 } },
    };
    client.start(now);
    this.collect(now);
  }

  stop(now: Instant): void {
    if (this.state === 'down') return;
    this.end('the link was lost', now);
    this.lossAt = now + this.patienceMs;
  }

  /** Nothing of this association is left. */
  private end(_words: string, now: Instant): void {
    const { standing } = this;
    this.state = 'down';
    this.standing = null;
    if (standing === null) return;
    standing.client.lost(now);
    this.controls.lost();
  }

  octetsArrive(): void {
    // There is no line whose time would have to be kept.
  }
  strangerHeard(): void {
    // Nobody else is on this connection.
  }
  wants(): Wish | null {
    return null;
  }
  grant(): void {
    // It never asks for the line.
  }
  owns(): boolean {
    return true;
  }

  receiveEvent(octets: Uint8Array, now: Instant): void {
    const { standing } = this;
    if (standing === null) return;
    standing.lastHeard = now;
    this.counters.add('octetsReceived', octets.length);
    standing.client.receive(octets, now);
    this.collect(now);
  }

  wake(now: Instant): void {
    const { standing } = this;
    if (standing === null) {
      if (this.lossAt !== null && now >= this.lossAt) {
        this.lossAt = null;
        this.becomeSilent('no connection');
      }
      return;
    }
    standing.client.wake(now);
    this.controls.wake(now);
    this.collect(now);
    if (this.standing !== standing || this.state !== 'running') return;
    standing.reports.wake(now);
    for (const round of standing.rounds)
      if (round.due !== null && !round.underWay && now >= round.due) this.read(standing, round, now);
    if (!standing.asking && standing.client.atRest && now >= standing.lastHeard + this.settings.keepAliveMs) {
      standing.asking = true;
      this.ask(standing, 'status', { extended: false }, now, () => (standing.asking = false));
    }
    this.collect(now);
  }

  get deadline(): Instant | null {
    const { standing } = this;
    if (standing === null) return this.lossAt;
    const times = [standing.client.deadline ?? Infinity, this.controls.deadline];
    if (this.state === 'running') {
      times.push(standing.reports.deadline);
      for (const { due, underWay } of standing.rounds) if (due !== null && !underWay) times.push(due);
      if (!standing.asking && standing.client.atRest) times.push(standing.lastHeard + this.settings.keepAliveMs);
    }
    const earliest = Math.min(...times);
    return earliest === Infinity ? null : earliest;
  }

  take(): (ClientNews | { type: 'send'; octets: Uint8Array })[] {
    const { effects } = this;
    this.effects = [];
    return effects;
  }

  /** Once in an association. */
  private note(words: string): void {
    if (this.notes.has(words)) return;
    this.notes.add(words);
    this.effects.push({ type: 'noted', words });
  }

  // ---- the association

  private collect(now: Instant): void {
    const { standing } = this;
    if (standing === null) return;
    this.count(standing);
    for (const effect of standing.client.take()) {
      switch (effect.type) {
        case 'send':
          this.counters.add('octetsSent', effect.octets.length);
          this.effects.push(effect);
          break;
        case 'open':
          this.counters.add('associations');
          this.explore(standing, now);
          break;
        case 'odd':
          this.counters.add('odd');
          this.note(`not expected: ${effect.words}`);
          break;
        case 'closed':
          this.onClosed(effect.words, now);
          break;
        default:
          effect satisfies never;
      }
    }
  }

  /** What the association has counted since the last look. */
  private count({ client: { counts }, counted }: Standing): void {
    for (const name of ['requests', 'responses', 'errors', 'timeouts'] as const) {
      this.counters.add(name, counts[name] - counted[name]);
      counted[name] = counts[name];
    }
  }

  private onClosed(words: string, now: Instant): void {
    this.end(words, now);
    this.becomeSilent(words);
    // The connection may stand, and is good for nothing.
    this.effects.push({ type: 'hangUp', words });
  }

  private becomeSilent(words: string): void {
    if (this.silent === true) return;
    this.silent = true;
    this.notes.clear();
    this.effects.push({ type: 'communication', state: 'silent', words });
  }

  private becomeAnswering(): void {
    if (this.silent === false) return;
    this.silent = false;
    this.effects.push({ type: 'communication', state: 'answering', words: 'associated' });
  }

  private ask<Name extends ServiceName>(
    standing: Standing,
    service: Name,
    request: Parameters<typeof standing.client.ask<Name>>[1],
    now: Instant,
    done: (answer: Answer<Name>, now: Instant, octets: Uint8Array | null) => void,
  ): void {
    standing.client.ask(
      service,
      request,
      (answer, at, octets) => {
        if (answer.ok) {
          this.roundTripMs = at - now;
          this.effects.push({ type: 'answered', roundTripMs: this.roundTripMs });
        }
        if (this.standing === standing) done(answer, at, octets);
      },
      now,
    );
  }

  // ---- what there is, and how it comes

  private explore(standing: Standing, now: Instant): void {
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

  private onExplored(standing: Standing, explored: Explored, now: Instant): void {
    this.state = 'running';
    standing.explored = explored;
    for (const problem of explored.problems) this.note(problem);
    this.becomeAnswering();
    this.effects.push({ type: 'answered', roundTripMs: this.roundTripMs });
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
      ...this.roundsFor(standing, rest, pollMs, now),
      ...(alsoPollMs > 0 ? this.roundsFor(standing, [...brought], alsoPollMs, now) : []),
    ];
    for (const round of standing.rounds) this.read(standing, round, now);
  }

  private roundsFor(standing: Standing, wanted: readonly Wanted[], periodMs: number, now: Instant): Round[] {
    const { explored, client } = standing;
    if (explored === null || wanted.length === 0) return [];
    const reads = planReads(wanted, explored.sets, explored.types, client.agreement?.size ?? DEFAULT_SIZE);
    return reads.map((read) => ({ read, periodMs, due: now, underWay: false, asked: false }));
  }

  private read(standing: Standing, round: Round, now: Instant): void {
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
        round.due = at + Math.max(REFUSED_PAUSE_MS, round.periodMs);
        this.refuse(standing, points, `${words}: ${answer.words}`);
        return;
      }
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

  private refuse(standing: Standing, points: readonly number[], words: string): void {
    const isNews = points.some((id) => standing.unreadable.get(id) !== words);
    for (const id of points) standing.unreadable.set(id, words);
    if (isNews) this.tellUnreadable(standing, words);
  }

  private told = '';
  private tellUnreadable(standing: Standing, words?: string): void {
    const points = [...standing.unreadable.keys()];
    const all = [...new Set(standing.unreadable.values())];
    const few = words ?? all.slice(0, 5).join('; ') + (all.length > 5 ? ` and ${all.length - 5} more` : '');
    const key = `${points.join(',')} ${few}`;
    if (key === this.told) return;
    this.told = key;
    this.effects.push({ type: 'unreadable', points, words: few });
  }

  private handOut(readings: readonly ModelReading[], words: () => string, kept: boolean): void {
    if (readings.length === 0) return;
    const carried = new CarryingMessage(words);
    const token = kept ? ++this.token : null;
    this.effects.push({ type: 'readings', readings, carried, token, keep: kept ? this.keep : null });
  }

  // ---- what is told unasked

  private onTold(told: Told, now: Instant): void {
    const { standing } = this;
    if (standing === null || this.controls.onTold(told)) return;
    const arrived = standing.reports.take(told, now);
    if (arrived !== null) this.onReport(standing, arrived, now);
  }

  private onReport(standing: Standing, { running, report, came, entryTime }: Arrived, now: Instant): void {
    this.counters.add('reports');
    this.counters.add('reportedValues', came.length);
    this.effects.push({ type: 'answered', roundTripMs: this.roundTripMs });
    const { block, assigned, subscribed } = running;
    if (report.revision !== null && report.revision !== subscribed.revision) {
      this.effects.push({
        type: 'diagnostic',
        words: `${blockName(block)}: its data set is revision ${report.revision} now, ${subscribed.revision} was known`,
      });
      standing.client.abort('the model has changed', now);
      return;
    }
    const readings = standing.held.take(assigned.placings, came, entryTime);
    const before = new Map(came.map(({ member }) => [member, running.shown.get(member)] as const));
    for (const { member, value } of came) running.shown.set(member, value);
    running.last = { at: now, report, before };
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
      case 'control': {
        this.counters.add('controls');
        const types = standing?.explored?.types ?? ((): null => null);
        this.controls.add(command, this.state === 'running' ? (standing?.client ?? null) : null, types, now);
        break;
      }
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
      default:
        command satisfies never;
    }
    this.collect(now);
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
        rows: running.map(({ block, assigned, subscribed, reports, sequence, last, gaps, overflows }) => ({
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
    ];
  }
}

const DEFAULT_SIZE = 8000;
