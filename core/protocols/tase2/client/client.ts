import { sameBytes } from '../../../bytes/index.ts';
import type { Instant } from '../../../session/index.ts';
import type {
  ClientCommand,
  ClientNews,
  ClientOptions,
  ClientPoint,
  DetailTable,
  FileOrder,
  OrderAnswer,
  SurveyedPoint,
} from '../../client.ts';
import type { ControlOrder } from '../../control.ts';
import { PastMessages } from '../../past.ts';
import { CarryingMessage } from '../../mms/carrying.ts';
import type { Told } from '../../mms/client.ts';
import { ClientSession, type Associated } from '../../mms/clientsession.ts';
import { allNames, hold, type Dialogue } from '../../mms/dialogue.ts';
import { callingSettings } from '../../mms/settings.ts';
import { accessErrorWords, type AccessResult } from '../../mms/wire/data.ts';
import { nameWords, type ObjectName } from '../../mms/wire/names.ts';
import { decodeBlock } from '../blocks.ts';
import { CounterSet, type CounterName } from '../counters.ts';
import type { Order } from '../order.ts';
import { nameOfPoint, printAt, type TaseAt } from '../points.ts';
import type { ClientSettings } from '../settings.ts';
import { messageOf, messageText, messageWords, type InfoMessage } from '../messages.ts';
import { BLOCKS, ackData, ACKNOWLEDGEMENTS, conditionsOf, nameOf, SPECIAL, type Condition } from '../transfer.ts';
import { TAG } from '../tags.ts';
import { agreementOf, agreementWords, checkTable, hasExceptions, hasReports, type PeerTold } from './agreement.ts';
import { operate, SELECT } from './operating.ts';
import { readTags, setTag } from './tagging.ts';
import { conditionWords, subscribe, unsubscribe } from './subscribing.ts';
import { ABOUT, readingOf, valueWords, type Came, type TaseReading } from './readings.ts';
import { freeName, secondsOf, transferSetTable, type Reporting } from './reports.ts';
import { survey } from './survey.ts';

/*
 * Our side towards one TASE.2 peer; how its association lives stands in `ClientSession`. While it explores, the agreement
 * is looked at; while it runs, transfer sets report what they can and the rest is read.
 *
 * Rules:
 *  1. Points come by transfer sets, as many to one as `setPoints`; what could not be reported is polled, and tried for
 *     again every `AGAIN_MS`.
 *  2. A peer with another bilateral table than ours is asked for nothing.
 *  3. A control is never sent twice.
 */

const EMPTY = new Uint8Array(0);
const AGAIN_MS = 30_000;
/** Objects of one read. */
const AT_ONCE = 50;
const MOST_CONTROLS = 32;
const MOST_MESSAGES = 20;
const MESSAGES_WITHIN_MS = 60_000;

interface Own {
  agreement: PeerTold | null;
  /** Names of the domain; null: not told. */
  names: ReadonlySet<string> | null;
  reporting: Reporting[];
  polled: readonly ClientPoint<TaseAt>[];
  /** Those that are read together. */
  reads: (readonly ClientPoint<TaseAt>[])[];
  /** Reads of this round that are not answered yet. */
  openReads: number;
  pollAt: Instant;
  polling: boolean;
  againAt: Instant;
  /** Subscribing is under way. */
  trying: boolean;
}
type Known = Associated<Own>;

export class TaseClient extends ClientSession<TaseAt, Order, Own, CounterName> {
  readonly keep = EMPTY;
  private readonly controls = new Set<string>();
  /** What is acknowledged once it is stored, by the token of its readings. */
  private readonly unstored = new Map<number, { set: ObjectName; seconds: number }>();
  private readonly code: string;
  private token = 0;
  /** The peer packs in another way. */
  private blocksFailed = false;
  /** The newest first. */
  private readonly messages: { message: InfoMessage; at: Instant }[] = [];
  private now: Instant;

  constructor(
    private readonly settings: ClientSettings,
    now: Instant,
    options: ClientOptions<TaseAt>,
  ) {
    const { responseTimeoutMs, keepAliveMs } = settings;
    const association = { ...callingSettings(settings), responseTimeoutMs };
    super({ association, keepAliveMs }, new CounterSet(now), now, options);
    this.now = now;
    this.code = options.code ?? '';
  }

  get atRest(): boolean {
    const { standing } = this;
    return this.state === 'running' && standing !== null && standing.client.atRest && this.controls.size === 0;
  }

  get indications(): string[] {
    const agreement = this.standing?.agreement;
    return agreement ? [agreementWords(agreement)] : [];
  }

  /** How much of the list comes which way. */
  get ways(): { reported: number; polled: number } {
    const reported = this.standing?.reporting.reduce((sum, one) => sum + one.subscribed.points.length, 0) ?? 0;
    return { reported, polled: this.standing?.polled.length ?? 0 };
  }

  // ---- the association

  protected own(): Own {
    return {
      ...{ agreement: null, names: null, reporting: [], polled: [], reads: [], openReads: 0 },
      ...{ pollAt: Infinity, polling: false, againAt: Infinity, trying: false },
    };
  }
  protected lost(): void {
    // Each control was told by the loss of its request; what was not acknowledged the peer knows no more.
    this.unstored.clear();
  }
  protected get ownDeadline(): Instant {
    return Infinity;
  }
  protected wakeOwn(now: Instant): void {
    this.now = now;
  }
  protected runningDeadline({ pollAt, polling, againAt, trying }: Known): Instant {
    return Math.min(polling ? Infinity : pollAt, trying ? Infinity : againAt);
  }
  protected wakeRunning(standing: Known, now: Instant): void {
    if (!standing.polling && now >= standing.pollAt) this.poll(standing, now);
    if (!standing.trying && now >= standing.againAt) this.subscribeAll(standing, standing.polled, now);
  }

  protected explore(standing: Known, now: Instant): void {
    const { settings } = this;
    function* look(): Dialogue<{ agreement: PeerTold; names: ReadonlySet<string> | null }> {
      const agreement = yield* agreementOf(settings.domain);
      checkTable(agreement, settings.bilateralTable);
      const names = yield* allNames('variable', settings.domain);
      return { agreement, names: names && new Set(names) };
    }
    hold(
      standing.client,
      look(),
      (outcome, at) => {
        if (this.standing !== standing) return;
        // Without the agreement there is nothing to talk about; it may be another one when we come back.
        if (!outcome.ok) return standing.client.abort(outcome.problem, at);
        Object.assign(standing, outcome.value);
        this.explored(at);
        this.begin(standing, at);
      },
      now,
    );
  }

  // ---- how points come

  private isReported({ kind, at }: ClientPoint<TaseAt>): boolean {
    return this.settings.reports && at.way === 'auto' && kind !== 'output' && kind !== 'setpoint';
  }

  private begin(standing: Known, now: Instant): void {
    const seen = this.points.filter(({ kind }) => kind !== 'output' && kind !== 'setpoint');
    standing.unreadable.clear();
    standing.polled = seen;
    this.tellUnreadable(standing);
    // Present values are read at once, whatever reports bring later.
    this.poll(standing, now);
    const { agreement } = standing;
    if (agreement !== null && hasReports(agreement)) this.subscribeAll(standing, seen, now);
    else if (this.settings.reports) this.note('the peer has no transfer sets: all is read');
    if (this.settings.messages && standing.names?.has(SPECIAL.messages)) this.wantMessages(standing, now);
  }

  private wantsBlocks({ agreement }: Known): boolean {
    return this.settings.blocked && !this.blocksFailed && (agreement?.blocks?.includes(BLOCKS.blocked + 1) ?? false);
  }

  /** A report that is packed; one that is not understood is the last one: from then on they come as they are. */
  private onBlock(standing: Known, reporting: Reporting, block: Uint8Array, octets: Uint8Array, now: Instant): void {
    const { types, names } = reporting.subscribed;
    const values = types && decodeBlock(types, block);
    if (values) {
      const some = values.map(({ place }) => names[place]);
      return this.onReport(
        standing,
        reporting,
        some,
        values.map(({ value }) => value),
        octets,
        now,
      );
    }
    this.counters.add('unusable');
    this.blocksFailed = true;
    this.effects.push({
      type: 'diagnostic',
      words: 'its reports are packed in another way than ours: they come as they are now',
    });
    this.renew(standing, now);
  }

  private wantMessages(standing: Known, now: Instant): void {
    const name: ObjectName = { scope: 'domain', domain: this.settings.domain, item: SPECIAL.messages };
    const wanted = { variables: { names: [{ name }] }, values: [{ type: 'boolean', value: true } as const] };
    this.ask(standing, 'write', wanted, now, (answer) => {
      const refused = answer.ok ? (answer.response.results[0] ?? null) : null;
      if (refused !== null) this.note(`the peer tells no messages: ${accessErrorWords(refused)}`);
    });
  }

  private subscribeAll(standing: Known, points: readonly ClientPoint<TaseAt>[], now: Instant): void {
    const wanted = points.filter((point) => this.isReported(point));
    standing.againAt = Infinity;
    if (wanted.length === 0) return;
    standing.trying = true;
    const { setPoints } = this.settings;
    const next = (from: number, at: Instant): void => {
      if (this.standing !== standing) return;
      if (from >= wanted.length) {
        standing.trying = false;
        return;
      }
      const some = wanted.slice(from, from + setPoints);
      const item = freeName(standing.reporting, this.code);
      hold(
        standing.client,
        subscribe(some, item, standing.names, this.settings, {
          packed: this.wantsBlocks(standing),
          byException: hasExceptions(standing.agreement),
        }),
        (outcome, later) => {
          if (this.standing !== standing) return;
          if (outcome.ok) {
            standing.reporting.push({
              subscribed: outcome.value,
              reports: 0,
              last: null,
              since: later,
              shown: new Map(),
              past: new PastMessages(),
              octets: null,
            });
            const reported = new Set(some);
            standing.polled = standing.polled.filter((point) => !reported.has(point));
          } else {
            this.note(`${some.length} points are read, not reported: ${outcome.problem}`);
            standing.againAt = later + AGAIN_MS;
          }
          next(from + setPoints, later);
        },
        at,
      );
    };
    next(0, now);
  }

  private poll(standing: Known, now: Instant): void {
    const { pollMs } = this.settings;
    const points = standing.polled;
    standing.pollAt = pollMs === 0 ? Infinity : now + pollMs;
    if (points.length === 0) return;
    standing.polling = true;
    standing.reads = standing.reads.filter((read) => read.every((point) => points.includes(point)));
    const planned = new Set(standing.reads.flat());
    const rest = points.filter((point) => !planned.has(point));
    for (let from = 0; from < rest.length; from += AT_ONCE) standing.reads.push(rest.slice(from, from + AT_ONCE));
    for (const read of [...standing.reads]) this.readTogether(standing, read, now);
  }

  /** What is refused together, or does not fit a message, is asked for in two parts from then on. */
  private readTogether(standing: Known, some: readonly ClientPoint<TaseAt>[], now: Instant): void {
    standing.openReads++;
    const names = some.map(({ at }) => ({ name: nameOfPoint(at) }));
    this.ask(standing, 'read', { variables: { names } }, now, (answer, at, octets) => {
      if (!answer.ok && !answer.lost && some.length > 1) {
        const halves = [some.slice(0, some.length >> 1), some.slice(some.length >> 1)];
        standing.reads = standing.reads.flatMap((one) => (one === some ? halves : [one]));
        for (const half of halves) this.readTogether(standing, half, at);
      }
      if (--standing.openReads === 0) standing.polling = false;
      if (!answer.ok) {
        const alone = some.length === 1 ? some[0] : null;
        if (!answer.lost && alone !== null) this.refuse(standing, [alone.id], answer.words);
        return;
      }
      const { results } = answer.response;
      this.counters.add('polledValues', results.length);
      const came = some.map((point, n) => ({ point, value: results[n], from: { message: octets, at: n } }));
      this.handOut(standing, came, false, () => `read response: ${some.length} objects`);
    });
  }

  /** `token`: of what is acknowledged when it is stored. Returns whether there was anything. */
  private handOut(
    standing: Known,
    came: readonly Came[],
    event: boolean,
    words: () => string,
    token: number | null = null,
  ): boolean {
    const readings: TaseReading[] = [];
    for (const { point, value, from } of came) {
      if (value === undefined) continue;
      if (value.type === 'failure') {
        this.refuse(standing, [point.id], `${printAt(point.at)}: ${accessErrorWords(value.code)}`);
        continue;
      }
      const reading = readingOf(point, value, event, from);
      if (reading === null) this.refuse(standing, [point.id], `${printAt(point.at)} is ${noSuch(point.at.type)}`);
      else {
        readings.push(reading);
        if (standing.unreadable.delete(point.id)) this.tellUnreadable(standing);
      }
    }
    if (readings.length === 0) return false;
    const carried = new CarryingMessage(words, ABOUT);
    this.effects.push({ type: 'readings', readings, carried, token, keep: token === null ? null : EMPTY });
    return true;
  }

  // ---- what is reported

  protected onTold({ variables, results, octets }: Told, now: Instant): void {
    this.now = now;
    const { standing } = this;
    if (standing === null) return;
    const told = variables.names ?? [];
    // Only of what a server of ours has sent.
    if (told.some(({ name }) => ACKNOWLEDGEMENTS.includes(name.item) || name.item === SPECIAL.refuse))
      return void this.handToGuest(octets);
    const message = messageOf(told, results);
    if (message !== null) return this.onMessage(message, now);
    const named = variables.list === undefined ? variables.names.map(({ name }) => name) : null;
    const set = named?.findIndex((name) => name.item === SPECIAL.setName) ?? -1;
    const found = standing.reporting.find(({ subscribed }) => {
      if (variables.list !== undefined) return sameName(variables.list, subscribed.dataSet);
      const said = set < 0 ? null : nameOf(results[set]);
      return said !== null && sameName(said, subscribed.transferSet);
    });
    if (found?.subscribed.types && results.length === 1 && results[0].type === 'octets')
      return this.onBlock(standing, found, results[0].octets, octets, now);
    if (found === undefined || (named === null && results.length !== found.subscribed.members.length)) {
      // One of a transfer set that is being taken into use: its values are read at once anyway.
      this.counters.add('unusable');
      if (!standing.trying) this.note(`a report that is not understood: ${results.length} values`);
      return;
    }
    this.onReport(standing, found, named, results, octets, now);
  }

  private onMessage(message: InfoMessage, now: Instant): void {
    this.counters.add('messages');
    this.messages.unshift({ message, at: now });
    this.messages.splice(MOST_MESSAGES);
    // Whoever floods us is not written down word for word.
    const lately = this.messages.filter(({ at }) => now - at < MESSAGES_WITHIN_MS).length;
    if (lately < MOST_MESSAGES) this.effects.push({ type: 'noted', words: messageWords(message).slice(0, 400) });
  }

  private onReport(
    standing: Known,
    reporting: Reporting,
    named: readonly ObjectName[] | null,
    results: readonly AccessResult[],
    octets: Uint8Array,
    now: Instant,
  ): void {
    const { subscribed } = reporting;
    const seconds = this.settings.critical ? secondsOf(subscribed, named, results) : null;
    if (seconds !== null) {
      // The same once more: our acknowledgement was lost, or is on its way.
      const isRepeated = reporting.octets !== null && sameBytes(reporting.octets, octets);
      reporting.octets = octets;
      if (isRepeated) return this.repeated(standing, subscribed.transferSet, seconds, now);
    }
    const came: Came[] = [];
    let conditions: Condition[] = [];
    results.forEach((value, at) => {
      const name = named?.[at];
      if (name?.item === SPECIAL.conditions) conditions = conditionsOf(value);
      const point = name === undefined ? subscribed.members[at] : subscribed.byName.get(nameWords(name));
      // What is not in a report by exception has no value there.
      if (!point || value.type === 'failure') return;
      came.push({ point, value, from: { message: octets, at } });
    });
    if (named === null) {
      const at = subscribed.members.findIndex((one, place) => one === null && results[place]?.type === 'bits');
      conditions = at < 0 ? [] : conditionsOf(results[at]);
    }
    const event =
      conditions.length === 0 ? came.length < subscribed.points.length : conditions.includes('object change');
    reporting.reports++;
    this.counters.add('reports');
    this.counters.add('reportedValues', came.length);
    this.answered();
    const values = came.flatMap(({ point, value }) =>
      value === undefined ? [] : [[printAt(point.at), value] as const],
    );
    const changed = values.flatMap(([point, value]) => {
      const before = reporting.shown.get(point);
      reporting.shown.set(point, value);
      return before === undefined ? [] : [{ point, before, now: value }];
    });
    reporting.last = { at: now, conditions, values: came.length, changed };
    reporting.past.add(now, conditions.join(', '), () => values.map(([name, value]) => [name, valueWords(value)]));
    const { item } = subscribed.transferSet;
    const acknowledged = seconds === null ? null : { set: subscribed.transferSet, seconds };
    const words = (): string =>
      `transfer report ${item}: ${came.length} of ${subscribed.points.length}${conditionWords(conditions)}`;
    if (acknowledged === null) {
      this.handOut(standing, came, event, words);
      return;
    }
    const token = ++this.token;
    if (this.handOut(standing, came, event, words, token)) this.unstored.set(token, acknowledged);
    else this.acknowledge(standing, acknowledged, now);
  }

  private repeated(standing: Known, set: ObjectName, seconds: number, now: Instant): void {
    const waits = [...this.unstored.values()].some((one) => one.seconds === seconds && sameName(one.set, set));
    if (!waits) this.acknowledge(standing, { set, seconds }, now);
  }

  private acknowledge(standing: Known, { set, seconds }: { set: ObjectName; seconds: number }, now: Instant): void {
    const known = ACKNOWLEDGEMENTS.find((one) => standing.names?.has(one)) ?? SPECIAL.acknowledge;
    const name: ObjectName = { scope: 'domain', domain: this.settings.domain, item: known };
    standing.client.tell({ names: [{ name }] }, [ackData(set, seconds)], now);
  }

  // ---- what people and the engine want

  command(command: ClientCommand<TaseAt, Order>, now: Instant): void {
    this.now = now;
    const { standing } = this;
    const running = this.state === 'running' ? standing : null;
    switch (command.type) {
      case 'committed': {
        const stored = this.unstored.get(command.token);
        this.unstored.delete(command.token);
        if (stored && standing) this.acknowledge(standing, stored, now);
        break;
      }
      case 'setPoints':
        this.points = command.points;
        if (running) this.renew(running, now);
        break;
      case 'control':
        this.counters.add('controls');
        this.control(command, now);
        break;
      case 'setSettings':
        // None of them is the session's own.
        break;
      case 'pollNow':
        if (running) this.pollAll(running, now);
        break;
      case 'survey':
        this.survey(command.id, running, now);
        break;
      case 'order':
        this.order(command.id, command.order, running, now);
        break;
      case 'resetCounters':
        this.counters.reset(now);
        break;
      case 'guest':
        this.onGuest(command, now);
        break;
      default:
        command satisfies never;
    }
    this.collect(now);
  }

  /** Another list: what is reported for the one before is let go of first. */
  private renew(standing: Known, now: Instant): void {
    const before = standing.reporting;
    standing.reporting = [];
    let left = before.length + 1;
    const done = (at: Instant): void => {
      if (--left === 0 && this.standing === standing) this.begin(standing, at);
    };
    for (const { subscribed } of before) hold(standing.client, unsubscribe(subscribed), (_, at) => done(at), now);
    done(now);
  }

  private pollAll(standing: Known, now: Instant): void {
    const { polled } = standing;
    standing.polled = this.points.filter(({ kind }) => kind !== 'output' && kind !== 'setpoint');
    this.poll(standing, now);
    standing.polled = polled;
  }

  protected operate(control: ControlOrder<TaseAt>, standing: Known, now: Instant): void {
    const { id } = control;
    const key = printAt(control.at);
    const fail = (words: string): void =>
      void this.effects.push({ type: 'control', id, step: 'failed', words: `${words}; nothing was sent` });
    if (this.controls.size >= MOST_CONTROLS) return fail(`${MOST_CONTROLS} controls are under way already`);
    if (this.controls.has(key)) return fail('another control of it is under way');
    this.controls.add(key);
    const { names } = standing;
    const dialogue = operate({
      control,
      needsSelect: names?.has(`${control.at.name}${SELECT}`) ?? false,
      hasTag: names?.has(`${control.at.name}${TAG}`) ?? false,
      report: (step) => this.effects.push({ type: 'control', id, ...step }),
      clock: () => this.now,
    });
    hold(standing.client, dialogue, () => this.controls.delete(key), now);
  }

  private survey(id: string, standing: Known | null, now: Instant): void {
    const end = (problem: string | null, rest: Partial<ClientNews & { type: 'surveyed' }> = {}): void =>
      void this.effects.push({ type: 'surveyed', id, problem, found: [] as SurveyedPoint[], attributes: [], ...rest });
    if (standing === null) return end('the peer is not associated');
    const { agreement } = standing;
    const attributes = agreement === null ? [] : [{ name: 'agreement', text: agreementWords(agreement) }];
    survey(standing.client, this.settings.domain, (found, problem) => end(problem, { found, attributes }), now);
  }

  private order(id: string, order: Order | FileOrder, standing: Known | null, now: Instant): void {
    const end = (problem: string | null, answer: OrderAnswer = {}): void =>
      void this.effects.push({ type: 'ordered', id, problem, answer });
    if (standing === null) return end('the peer is not associated');
    const carryOut = <Value>(dialogue: Dialogue<Value>, answer: (value: Value) => OrderAnswer): void =>
      hold(
        standing.client,
        dialogue,
        (outcome) => (outcome.ok ? end(null, answer(outcome.value)) : end(outcome.problem)),
        now,
      );
    switch (order.what) {
      case 'agreement':
        return carryOut(agreementOf(this.settings.domain), (agreement) => ({ words: agreementWords(agreement) }));
      case 'tags':
        return carryOut(readTags(this.points), (table) => ({ tables: [table] }));
      case 'tag':
        return carryOut(setTag(this.points, order), (words) => ({ words }));
      default:
        return end('there are no files in TASE.2');
    }
  }

  // ---- for those who look

  get details(): readonly DetailTable[] {
    const { standing } = this;
    if (standing === null) return [];
    return [
      transferSetTable(standing.reporting, this.settings, this.now),
      ...(this.messages.length === 0
        ? []
        : [
            {
              ...{ key: 'information', title: 'Messages of the peer' },
              columns: ['Reference', 'Message'],
              rows: this.messages.map(({ message, at }, n) => ({
                key: `${n} ${at}`,
                cells: [`${message.infoRef}/${message.localRef}/${message.id}`, messageText(message).slice(0, 400)],
                time: at,
              })),
            },
          ]),
      this.messageTable,
    ];
  }
}

const sameName = (a: ObjectName, b: ObjectName): boolean => nameWords(a) === nameWords(b);

/** Of a value that is not what it has to be. */
const noSuch = (agreed: TaseAt['type']): string =>
  agreed === 'auto' ? 'no point of TASE.2' : `not the ${agreed} that is agreed on`;
