import type { Wish } from '../../../line/index.ts';
import { addressWords } from '../../../point/index.ts';
import type { Instant } from '../../../session/index.ts';
import type {
  Client,
  ClientCommand,
  ClientNews,
  ClientOptions,
  ClientPoint,
  OrderAnswer,
  SurveyedPoint,
} from '../../client.ts';
import { CONTROL_OPERATIONS, controlStatusWords, SETPOINT_FORMS } from '../control.ts';
import type { Order, OrderAnswer as OwnAnswer } from '../order.ts';
import type { Dnp3At } from '../points.ts';
import type { MasterSettings } from '../settings.ts';
import { iinWords } from '../wire/application.ts';
import type { LinkEvent } from '../wire/link.ts';
import type { ListedPoint } from './intake/carried.ts';
import { Master } from './master.ts';
import type { ControlRequest, MasterCommand, MasterEffect } from './mastermessages.ts';

type Command = ClientCommand<Dnp3At, Order>;

const listed = (points: readonly ClientPoint<Dnp3At>[]): ListedPoint[] =>
  points.map(({ id, kind, at }) => ({ id, kind, index: at.index }));

type News = ClientNews | { type: 'send'; octets: Uint8Array };
const NO_NEWS = Object.freeze<News[]>([]) as News[];

/** A DNP3 master in the terms that all sessions have in common. */
export class Dnp3Client implements Client<Dnp3At, Order, LinkEvent> {
  private readonly master: Master;
  /** What surveys under way have found, by address. */
  private readonly surveys = new Map<string, Map<string, SurveyedPoint>>();

  constructor(settings: MasterSettings, now: Instant, options: ClientOptions<Dnp3At>) {
    this.master = new Master(settings, now, { ...options, lane: true, points: listed(options.points) });
  }

  get share(): number {
    return this.master.share;
  }
  get deadline(): Instant | null {
    return this.master.deadline;
  }
  get holdsLine(): boolean {
    return this.master.holdsLine;
  }
  get atRest(): boolean {
    return this.master.atRest;
  }
  get keep(): Uint8Array {
    return this.master.keep;
  }
  get counters(): Client<Dnp3At, Order, LinkEvent>['counters'] {
    return this.master.counters;
  }
  get nextIntegrity(): Instant | null {
    return this.master.nextIntegrity;
  }
  get indications(): string[] {
    return iinWords(this.master.indications);
  }
  get learned(): string | null {
    return this.master.learned;
  }

  start(now: Instant): void {
    this.master.start(now);
  }
  stop(now: Instant): void {
    this.master.stop(now);
  }
  wake(now: Instant): void {
    this.master.wake(now);
  }
  wants(now: Instant): Wish | null {
    return this.master.wants(now);
  }
  grant(now: Instant, begins: Instant): void {
    this.master.grant(now, begins);
  }
  octetsArrive(now: Instant): void {
    this.master.octetsArrive(now);
  }
  owns(event: LinkEvent): boolean {
    return this.master.owns(event);
  }
  receiveEvent(event: LinkEvent, now: Instant): void {
    this.master.receiveEvent(event, now);
  }
  strangerHeard(event: LinkEvent): void {
    this.master.strangerHeard(event);
  }

  command(command: Command, now: Instant): void {
    if (command.type === 'survey') this.surveys.set(command.id, new Map());
    const own = ownCommand(command);
    if (own !== null) this.master.command(own, now);
  }

  take(): News[] {
    const effects = this.master.take();
    return effects.length === 0 ? NO_NEWS : effects.map((effect) => this.news(effect));
  }

  private news(effect: MasterEffect): ClientNews | { type: 'send'; octets: Uint8Array } {
    switch (effect.type) {
      case 'readings':
        this.noteSurvey(effect);
        return effect;
      case 'surveyed': {
        const { id, problem, attributes } = effect;
        const found = [...(this.surveys.get(id)?.values() ?? [])];
        this.surveys.delete(id);
        return { type: 'surveyed', id, problem, found, attributes };
      }
      case 'ordered':
        return { ...effect, answer: answerOf(effect.answer) };
      case 'commandsReported': {
        const words = effect.commands.map(
          ({ kind, index, value, status }) =>
            `a command was given there: ${addressWords(kind, index)} to ${value}, ${controlStatusWords(status)}`,
        );
        return { type: 'noted', words: words.join('; ') };
      }
      case 'send':
      case 'keep':
      case 'communication':
      case 'answered':
      case 'stranger':
      case 'clock':
      case 'fileProgress':
      case 'control':
      case 'diagnostic':
      case 'unreadable':
        return effect;
      default:
        return effect satisfies never;
    }
  }

  private noteSurvey({ readings, carried, survey }: MasterEffect & { type: 'readings' }): void {
    const found = survey === undefined ? undefined : this.surveys.get(survey);
    if (!found) return;
    for (const reading of readings) {
      const { kind, index, group, variation, value } = reading;
      const address = addressWords(kind, index);
      const said = carried.said(reading) ?? '';
      found.set(address, { kind, address, form: `g${group}v${variation}`, value, said });
    }
  }
}

const answerOf = ({ awayMs, deadbands, directory, file }: OwnAnswer): OrderAnswer => ({
  ...(awayMs === undefined ? {} : { awayMs }),
  ...(directory ? { directory } : {}),
  ...(file ? { file } : {}),
  ...(deadbands ? { words: deadbands.map(({ index, value }) => `AI ${index}: ${value}`).join(', ') } : {}),
});

function ownCommand(command: Command): MasterCommand | null {
  switch (command.type) {
    case 'setPoints':
      return { type: 'setPoints', points: listed(command.points) };
    case 'control':
      return controlRequest(command);
    case 'committed':
    case 'pollNow':
    case 'setSettings':
    case 'survey':
    case 'order':
    case 'resetCounters':
      return command;
    case 'guest':
      // A peer that is master and outstation at once is told apart by its addresses.
      return null;
    default:
      return command satisfies never;
  }
}

function controlRequest(command: Command & { type: 'control' }): ControlRequest {
  const { id, at, mode, expiresAt, operation, counts, text, count, onMs, offMs } = command;
  const code = operation === null ? 0 : CONTROL_OPERATIONS[operation];
  return {
    type: 'control',
    id,
    index: at.index,
    block: { code, count, onMs, offMs },
    ...(counts === null ? {} : { setpoint: { variation: SETPOINT_FORMS[at.sentAs], value: counts } }),
    ...(text === undefined ? { mode } : { text, mode: 'direct' }),
    expiresAt,
  };
}
