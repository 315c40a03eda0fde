import { countsAllowed, feedbackOf as shownBy, textToSend } from '@halvix/core/config';
import {
  outcome,
  type CentreOrder,
  type ClientNews,
  type ControlKind,
  type ControlMode,
  type ControlOutcome,
  deviceOf,
} from '@halvix/core/protocols';
import type { CommandState } from '@halvix/core/path';
import {
  OPERATIONS,
  OPERATION_WORDS,
  Quality,
  scaledValue,
  switchesOn,
  wholeOf,
  type Operation,
  type Reading,
} from '@halvix/core/point';
import {
  claimCommands,
  expireCommands,
  noteCommand,
  orderCommand,
  type Command,
  type CommandProgress,
  type Database,
} from '@halvix/db';
import { clock } from '@halvix/wire';
import { randomUUID } from 'node:crypto';
import type { DeviceRunner } from '../field/device.ts';
import type { Exchange, LivePoint } from '../board/exchange.ts';
import type { Journal } from '../journal.ts';
import { log, reason } from '../log.ts';
import { InTurn } from './inturn.ts';
import type { CentreControl, GivenCommand } from './controls.ts';

export interface CommandContext {
  database: Database;
  engine: string;
  /** Of the engine: only the holder of the lease takes commands. */
  run: string;
  exchange: Exchange;
  journal: Journal;
  devices: () => ReadonlyMap<string, DeviceRunner>;
  /** An output was given a command, and the device has said what it thinks of it. */
  given: (command: GivenCommand) => void;
  changed: () => void;
}

interface Running {
  command: Command;
  point: LivePoint | undefined;
  sentAt: number | null;
  /** What the feedback point has to show, once the device has accepted. */
  feedback: Feedback | null;
  writes: Promise<void>;
}

interface Feedback {
  point: LivePoint;
  /** What is known until then, in words. */
  soFar: string;
  shows: (reading: Reading) => boolean;
  /** What it has to become, in words. */
  words: string;
  until: number;
}

const MODES: readonly ControlMode[] = ['selectOperate', 'direct', 'directNoAnswer', 'selectOnly'];
const CENTRE_EXPIRY_MS = 5000;
/** A centre is answered by then, whatever happens. */
const CENTRE_ANSWER_MS = 8000;
/** When no event has shown the outcome by then, the device is asked for its present state. */
const LOOK_AFTER_MS = 1500;

/**
 * Carries out command rows, each once. A row is claimed before anything is sent, and never goes back to requested:
 * whatever fails after that is an outcome.
 */
export class Commands {
  private readonly running = new Map<string, Running>();
  private readonly centres = new Map<string, (outcome: ControlOutcome) => void>();
  private readonly orders = new InTurn();
  private claiming = false;
  private again = false;

  constructor(private readonly context: CommandContext) {
    context.exchange.listen('handOn', () => {
      if (this.running.size > 0) this.checkFeedback();
    });
  }

  /** Takes what has been requested for our devices. */
  async work(): Promise<void> {
    if (this.claiming) {
      this.again = true;
      return;
    }
    this.claiming = true;
    try {
      do {
        this.again = false;
        const { database, engine, run, devices } = this.context;
        const claimed = await claimCommands(database, engine, [...devices().keys()], clock.now(), run);
        for (const command of claimed) this.begin(command);
      } while (this.again);
    } catch (error) {
      log('error', 'commands cannot be read', { reason: reason(error) });
    } finally {
      this.claiming = false;
    }
  }

  /** Once a second or so: what nobody took, and feedback that did not come. */
  async tick(): Promise<void> {
    this.checkFeedback();
    try {
      if ((await expireCommands(this.context.database, clock.now())) > 0) this.context.changed();
    } catch {
      // The database is away; the historian has said so.
    }
    await this.work();
  }

  private begin(command: Command): void {
    const { exchange, journal, devices } = this.context;
    if (command.state === 'expired') {
      journal.note(
        command.device,
        'control',
        `${operationWords(command.operation)} by ${command.requestedBy}: expired, not sent`,
      );
      this.answerCentre(command.id, outcome('failed'));
      this.context.changed();
      return;
    }
    const point = exchange.at(command.device, command.address);
    this.running.set(command.id, { command, point, sentAt: null, feedback: null, writes: Promise.resolve() });
    const device = devices().get(command.device);
    if (device === undefined) {
      this.end(command.id, 'failed', 'this engine does not have the device any more; nothing was sent');
      return;
    }
    if (point === undefined) {
      this.end(command.id, 'failed', `the device's list has no ${command.address} any more; nothing was sent`);
      return;
    }
    const { operation, counts, text, onMs, offMs, count } = command;
    device.control({
      type: 'control',
      id: command.id,
      kind: kindOf(command),
      at: point.config.at,
      operation: operationNamed(operation) ?? null,
      counts,
      ...(text === null ? {} : { text }),
      onMs,
      offMs,
      count,
      mode: MODES.find((mode) => mode === command.mode) ?? 'selectOperate',
      expiresAt: command.expires,
    });
  }

  onProgress(progress: ClientNews & { type: 'control' }): void {
    const running = this.running.get(progress.id);
    if (running === undefined) return;
    const now = clock.now();
    switch (progress.step) {
      case 'selectSent':
      case 'operateSent':
        if (running.sentAt === null) {
          running.sentAt = now;
          this.note(running, { sent: now });
        }
        break;
      case 'selected':
        this.note(running, { selected: now });
        if (running.command.mode === 'selectOnly') this.end(progress.id, 'selected', null, { status: 0 });
        break;
      case 'operated':
        this.note(running, { operated: now, state: 'operated', status: 0 });
        this.answerCentre(running.command.id, outcome('done'));
        this.tell(running, outcome('done'));
        this.awaitFeedback(running, 'accepted', 'operated', now);
        break;
      case 'unanswered':
        this.awaitFeedback(running, 'sent without asking for an answer', 'unknown', now);
        break;
      case 'refused':
        this.tell(running, said(running, progress.status));
        this.end(progress.id, 'refused', progress.words, { status: progress.status });
        break;
      case 'expired':
      case 'failed':
      case 'unknown':
        this.end(progress.id, progress.step, progress.words);
        break;
      default:
        progress satisfies never;
    }
    this.context.changed();
  }

  private tell({ command }: Running, result: ControlOutcome): void {
    const { device, address, operation, counts } = command;
    const kind = kindOf(command);
    // No centre is told of what was written to a text, but by the text itself.
    if (kind === 'text') return;
    const named = operationNamed(operation);
    const value = counts ?? (named !== undefined && switchesOn(named) ? 1 : 0);
    this.context.given({ device, address, kind, value, outcome: result });
  }

  /** What the point that follows shows decides; without one, `otherwise` is the end. */
  private awaitFeedback(running: Running, soFar: string, otherwise: CommandState, now: number): void {
    const { command, point } = running;
    running.feedback = point === undefined ? null : this.feedbackOf(command, point, soFar, now);
    if (running.feedback === null) {
      this.end(command.id, otherwise, `${soFar}; no feedback point shows whether it happened`);
      return;
    }
    setTimeout(() => {
      if (this.running.has(command.id)) this.context.devices().get(command.device)?.pollNow();
    }, LOOK_AFTER_MS);
  }

  /** The point that will show that a command has happened, and what it has to become. */
  private feedbackOf(
    { device, operation, counts, text }: Command,
    { address, config }: LivePoint,
    soFar: string,
    now: number,
  ): Feedback | null {
    const { exchange } = this.context;
    if (text !== null) {
      const { setting } = config;
      const point = setting === null ? undefined : exchange.at(device, setting.feedback ?? address);
      if (setting === null || point === undefined) return null;
      const until = now + setting.feedbackWithinMs;
      return {
        point,
        soFar,
        shows: (reading) => (reading.text ?? '').trimEnd() === text.trimEnd(),
        words: `"${text}"`,
        until,
      };
    }
    if (counts !== null) {
      const { setting } = config;
      if (setting === null) return null;
      const point = exchange.at(device, setting.feedback ?? address);
      if (point === undefined) return null;
      const wanted = scaledValue(counts, config);
      const count = Math.abs(scaledValue(1, point.config) - scaledValue(0, point.config));
      const near = Math.max(setting.tolerance, count / 2, Math.abs(wanted) * FLOAT_ROUNDING);
      return {
        point,
        soFar,
        shows: ({ value }) => Math.abs(value - wanted) <= near,
        words: `${Number(wanted.toPrecision(9))}${config.unit ? ` ${config.unit}` : ''}`,
        until: now + setting.feedbackWithinMs,
      };
    }
    const named = operationNamed(operation);
    const feedback = shownBy(config);
    const expected = named === undefined ? undefined : feedback?.expect[named];
    const point = feedback && exchange.at(device, feedback.point);
    if (!config.control || !point || expected === undefined) return null;
    return {
      point,
      soFar,
      shows: ({ raw }) => raw === expected,
      words: point.config.states?.[expected] ?? String(expected),
      until: now + config.control.feedbackWithinMs,
    };
  }

  private checkFeedback(): void {
    const now = clock.now();
    for (const { command, feedback, sentAt } of this.running.values()) {
      if (feedback === null || sentAt === null) continue;
      const { point, soFar, shows, words, until } = feedback;
      const current = this.context.exchange.get(point.id)?.reading;
      const fresh = current && current.received >= sentAt && !(current.quality & Quality.commLost);
      if (fresh && shows(current)) {
        const own = current.timeSource === 'device' && current.time >= sentAt - 1000;
        const when = own ? `, ${new Date(current.time).toISOString().slice(11, 23)} UTC by the device's clock` : '';
        this.end(command.id, 'confirmed', `${point.config.name}: ${words}${when}`, { confirmed: now });
      } else if (now > until)
        this.end(command.id, 'unconfirmed', `${soFar}, but ${point.config.name} did not become ${words} in time`);
    }
  }

  private note(running: Running, progress: CommandProgress): void {
    const { database } = this.context;
    const { id } = running.command;
    running.writes = running.writes
      .then(() => noteCommand(database, id, progress))
      .then(() => this.context.changed())
      .catch((error: unknown) =>
        log('error', 'the progress of a command was not written', { id, reason: reason(error) }),
      );
  }

  private end(id: string, state: CommandState, words: string | null, more: CommandProgress = {}): void {
    const running = this.running.get(id);
    if (running === undefined) return;
    this.running.delete(id);
    this.note(running, { state, ended: clock.now(), ...(words === null ? {} : { words }), ...more });
    const { command } = running;
    const ended = words === null || words === '' ? state : `${state}: ${words}`;
    this.context.journal.note(
      command.device,
      'control',
      `${running.point?.config.name ?? command.address}: ${whatOf(running)} by ${command.requestedBy}, ${ended}`,
    );
    if (state === 'refused') this.answerCentre(id, said(running, more.status ?? null));
    else if (state === 'selected') this.answerCentre(id, outcome('done'));
    else this.answerCentre(id, outcome('failed'));
  }

  /** The first outcome is the answer; later ones (feedback) find nobody waiting. */
  private answerCentre(id: string, result: ControlOutcome): void {
    this.centres.get(id)?.(result);
    this.centres.delete(id);
  }

  /** A control from a centre: a row like any other; resolves with what the device said, or why it was not passed on. */
  async fromCentre({ outbound, device, address, phase, order }: CentreControl): Promise<ControlOutcome> {
    const { kind, counts, asked, count } = order;
    const point = this.context.exchange.at(device, address);
    if (point === undefined || point.config.kind !== kind) return outcome('notSupported');
    const { operation, onMs, offMs } = asListed(order, point);
    let what: Pick<Command, 'operation' | 'counts' | 'text'>;
    if (kind === 'text') {
      const allowed = textToSend(order.text ?? '', point.config);
      if (!allowed.ok) {
        this.context.journal.note(device, 'control', `written by centre ${outbound}, not sent: ${allowed.problem}`);
        return outcome(point.config.setting === null ? 'notSupported' : 'outOfRange');
      }
      what = { operation: 'write', counts: null, text: allowed.value };
    } else if (counts !== null) {
      const allowed = countsAllowed(counts, point.config);
      if (!allowed.ok) {
        this.context.journal.note(device, 'control', `set by centre ${outbound}, not sent: ${allowed.problem}`);
        return outcome(point.config.setting === null ? 'notSupported' : 'outOfRange');
      }
      if (wholeOf(counts) !== allowed.value && counts !== allowed.value)
        this.context.journal.note(
          device,
          'control',
          `${point.config.name}: ${counts} counts of centre ${outbound} are rounded to ${allowed.value}`,
        );
      what = { operation: 'set', counts: allowed.value, text: null };
    } else {
      if (operation === null || !point.config.control?.operations.includes(operation)) {
        const wanted = operation === null ? asked : OPERATION_WORDS[operation];
        const words = `${point.config.name}: ${wanted} by centre ${outbound}, not sent: the list does not allow it`;
        this.context.journal.note(device, 'control', words);
        return outcome('notSupported');
      }
      what = { operation, counts: null, text: null };
    }
    const id = randomUUID();
    const now = clock.now();
    const result = new Promise<ControlOutcome>((resolve) => {
      this.centres.set(id, resolve);
      setTimeout(() => this.answerCentre(id, outcome('failed')), CENTRE_ANSWER_MS).unref();
    });
    try {
      // One after the other: rows are carried out in the order in which they are made.
      await this.orders.place('')(() =>
        orderCommand(this.context.database, {
          id,
          pointId: point.id,
          device,
          address,
          ...what,
          mode: phase === 'select' ? 'selectOnly' : phase === 'operate' ? 'selectOperate' : 'direct',
          onMs,
          offMs,
          count,
          requestedBy: `centre ${outbound}`,
          outbound,
          requested: now,
          expires: now + CENTRE_EXPIRY_MS,
        }),
      );
    } catch (error) {
      log('error', "a centre's control could not be recorded, so it was not sent", { reason: reason(error) });
      this.answerCentre(id, outcome('failed'));
    }
    return result;
  }
}

/** What the device itself said. */
const said = ({ point }: Running, status: number | null): ControlOutcome => ({
  result: 'refused',
  status,
  protocol: point?.config.at.protocol ?? null,
  ...(point && status !== null ? { refusal: deviceOf(point.config.at.protocol).refusal(status) } : {}),
});

/** What a centre that knows on and off alone means: the list's own way of that, with its times. */
function asListed(order: CentreOrder, { config }: LivePoint): Pick<CentreOrder, 'operation' | 'onMs' | 'offMs'> {
  const { control } = config;
  if (order.on === undefined || control === null) return order;
  const operation = OPERATIONS.find((one) => control.operations.includes(one) && switchesOn(one) === order.on) ?? null;
  return { operation, onMs: control.onMs, offMs: control.offMs };
}

const kindOf = ({ counts, text }: Command): ControlKind =>
  text !== null ? 'text' : counts === null ? 'output' : 'setpoint';

const operationNamed = (words: string): Operation | undefined => OPERATIONS.find((one) => one === words);

/** A single-precision float keeps about seven digits. */
const FLOAT_ROUNDING = 2e-7;

/** An operation in words; a centre's may be one that has none here. */
const operationWords = (operation: string): string => OPERATION_WORDS[operation as Operation] ?? operation;

/** What a command asks for, in words. */
function whatOf({ command: { operation, counts, text }, point }: Running): string {
  if (text !== null) return `set to "${text}"`;
  if (counts === null) return operationWords(operation);
  if (point === undefined) return `set to ${counts} counts`;
  const value = Number(scaledValue(counts, point.config).toPrecision(9));
  return `set to ${value}${point.config.unit ? ` ${point.config.unit}` : ''}`;
}
