import { addressWords, type PointKind } from '../../../point/index.ts';
import type { Instant } from '../../../session/index.ts';
import type { CentreOrder, ControlOutcome } from '../../control.ts';
import {
  NOTHING_REMEMBERED,
  type OwedRecord,
  type Remembered,
  type Server,
  type ServerCommand,
  type ServerEffect,
  type ServerPoint,
  type Told,
} from '../../server.ts';
import { controlOperation, ControlStatus, STATUS_OF } from '../control.ts';
import type { Dnp3TargetAt } from '../points.ts';
import { flagsFromQuality, flagWords } from '../quality.ts';
import type { OutstationSettings } from '../settings.ts';
import type { BufferedEvent } from './eventbuffer.ts';
import type { ControlItem } from './controls.ts';
import { Outstation, type OutstationCommand, type OutstationEffect } from './outstation.ts';
import { eventOf, owedRecord } from './owedevents.ts';
import { objectWords, type OutstationPoint } from './pointtable.ts';

type Spot = { kind: PointKind; at: Dnp3TargetAt };

const OVERFLOWED = 1;

/** Our own words for what came of a control, where no outstation has said so. */
const STATUS: Record<ControlOutcome['result'], number> = {
  done: ControlStatus.success,
  refused: ControlStatus.undefined,
  notSupported: ControlStatus.notSupported,
  outOfRange: ControlStatus.outOfRange,
  notAuthorized: ControlStatus.notAuthorized,
  blocked: ControlStatus.blocked,
  failed: ControlStatus.downstreamFail,
};
const statusOf = ({ result, status, protocol, refusal }: ControlOutcome): number => {
  if (protocol === 'dnp3' && status !== null) return status;
  return result === 'refused' && refusal !== undefined ? STATUS_OF[refusal] : STATUS[result];
};

/** A DNP3 outstation in the terms that all sessions have in common. */
export class Dnp3Server implements Server<Dnp3TargetAt> {
  private readonly outstation: Outstation;

  constructor(
    private readonly settings: OutstationSettings,
    points: readonly ServerPoint<Dnp3TargetAt>[],
    now: Instant,
    { pieces, lastNumber, owes }: Remembered = NOTHING_REMEMBERED,
  ) {
    // What is remembered beside the events is one octet: whether some were lost, as the last piece says it.
    const overflowed = pieces.at(-1)?.at(-1) === OVERFLOWED;
    this.outstation = new Outstation(settings, this.own(points), now, { lastNumber, owes, overflowed });
  }

  get keep(): Uint8Array {
    return new Uint8Array([this.outstation.events.overflowed ? OVERFLOWED : 0]);
  }
  get owed(): OwedRecord[] {
    return this.outstation.events.all.map(owedRecord);
  }

  private own(points: readonly ServerPoint<Dnp3TargetAt>[]): OutstationPoint[] {
    return points.map(({ kind, at, deadband }) => ({
      kind,
      index: at.index,
      class: at.eventClass,
      commandClass: this.settings.commandClass,
      staticVariation: at.staticVariation,
      eventVariation: at.eventVariation,
      deadband,
    }));
  }

  get counters(): Server<Dnp3TargetAt>['counters'] {
    return this.outstation.counters;
  }
  get eventsWaiting(): number {
    return this.outstation.events.size;
  }
  get awaits(): boolean {
    return this.outstation.awaits;
  }
  get deadline(): Instant | null {
    return this.backAt ?? this.outstation.deadline;
  }

  form({ kind, at }: Spot): string {
    return `${objectWords(kind, 'static', at.staticVariation)} i${at.index}`;
  }
  said(kind: PointKind, quality: number): string {
    return flagWords(kind, flagsFromQuality(kind, quality));
  }
  held({ kind, at }: Spot): { value: number; text: string } {
    return this.outstation.point(kind, at.index) ?? { value: 0, text: '' };
  }

  start(now: Instant): void {
    this.outstation.start(now);
  }
  stop(now: Instant): void {
    this.outstation.stop(now);
  }
  wake(now: Instant): void {
    if (this.backAt !== null && now < this.backAt) return;
    if (this.backAt !== null) {
      this.backAt = null;
      this.outstation.command({ type: 'restarted' }, now);
    }
    this.outstation.wake(now);
  }
  receive(bytes: Uint8Array, now: Instant): void {
    // While it restarts it is as if it were not there.
    if (this.backAt === null) this.outstation.receive(bytes, now);
  }
  /** Until when it restarts, as its centre has asked; null: it does not. */
  private backAt: Instant | null = null;

  command(command: ServerCommand<Dnp3TargetAt>, now: Instant): void {
    const own = this.ownCommand(command);
    if (own !== null) this.outstation.command(own, now);
  }

  private ownCommand(command: ServerCommand<Dnp3TargetAt>): OutstationCommand | null {
    switch (command.type) {
      case 'update': {
        const updates = command.updates.map(({ kind, at, value, text, quality, time, always, moved }) => ({
          kind,
          index: at.index,
          value,
          ...(text === undefined ? {} : { text }),
          flags: flagsFromQuality(kind, quality),
          time,
          ...(always ? { always } : {}),
          ...(moved ? { exact: true } : {}),
        }));
        const { manner } = command;
        return { type: 'update', updates, quiet: manner === 'quiet', shown: manner === 'shown' };
      }
      case 'toldBefore':
        return { type: 'toldBefore', events: command.records.flatMap((record) => eventOf(record) ?? []) };
      case 'owed': {
        const events = command.records.flatMap((record) => eventOf(record) ?? []);
        return { type: 'owed', events, last: command.last };
      }
      case 'controlResult':
        return { type: 'controlResult', token: command.token, statuses: command.outcomes.map(statusOf) };
      case 'commandGiven': {
        const { kind, at, value, outcome, time } = command;
        return { type: 'commandGiven', kind, index: at.index, value, status: statusOf(outcome), time };
      }
      case 'setPoints':
        return { type: 'setPoints', points: this.own(command.points) };
      case 'resetCounters':
      case 'setSettings':
      case 'rest':
        return command;
      case 'came':
      case 'went':
      case 'octets':
      case 'rights':
        // One centre at a time, whose octets come as those of the session.
        return null;
      case 'stored':
      case 'carried':
      case 'notCarried':
      case 'again':
      case 'order':
      case 'guest':
        // There are no orders. A peer that is master and outstation at once is told apart by its addresses.
        return null;
      default:
        return command satisfies never;
    }
  }

  take(): ServerEffect[] {
    const effects = this.outstation.take().flatMap((effect) => this.effect(effect));
    // Whatever is still to be said goes out before its connection ends.
    const isEnd = ({ type }: ServerEffect): boolean => type === 'hangUp';
    return effects.some(isEnd) ? [...effects.filter((one) => !isEnd(one)), ...effects.filter(isEnd)] : effects;
  }

  private effect(effect: OutstationEffect): ServerEffect | ServerEffect[] {
    switch (effect.type) {
      case 'event': {
        const { kind, index, variation, status } = effect.event;
        const owes = { type: 'owes' as const, ...owedRecord(effect.event) };
        if (status !== undefined) return owes;
        const form = `${objectWords(kind, 'event', variation)} i${index}`;
        return [{ type: 'event', ...told(effect.event), form }, owes];
      }
      case 'settled':
        return { type: 'settled', queue: String(effect.class), position: effect.position, beyond: effect.beyond };
      case 'overflowed':
        return { type: 'keep', octets: this.keep };
      case 'reported':
      case 'delivered':
        return { type: effect.type, events: effect.events.map(told) };
      case 'control':
        return { type: 'control', token: effect.token, phase: effect.phase, items: effect.items.map(orderOf) };
      case 'restartAsked':
        // What it owes stays: what begins anew is the conversation.
        this.backAt = effect.at + (this.settings.restartsInMs ?? 0);
        return [{ type: 'noted', words: `a ${effect.how} restart was asked for` }, { type: 'hangUp' }];
      case 'countersCleared':
      case 'fileDeleted':
      case 'timeWritten':
        // This machine's clock is kept by its own time service; a centre does not set it.
        return [];
      case 'send':
      case 'heard':
      case 'integrityAnswered':
      case 'diagnostic':
        return effect;
      default:
        return effect satisfies never;
    }
  }
}

const told = ({ kind, index, number }: BufferedEvent): Told => ({ address: addressWords(kind, index), number });

function orderOf({ index, block, setpoint, text }: ControlItem): CentreOrder {
  const kind = text !== undefined ? 'text' : setpoint ? 'setpoint' : 'output';
  return {
    address: addressWords(kind, index),
    kind,
    operation: kind === 'output' ? controlOperation(block.code) : null,
    ...(text === undefined ? {} : { text }),
    asked: `control code ${block.code}`,
    counts: setpoint?.value ?? null,
    onMs: block.onMs,
    offMs: block.offMs,
    count: block.count,
  };
}
