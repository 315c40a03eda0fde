import type { PointKind } from '../point/index.ts';
import type { Instant, Session } from '../session/index.ts';
import type { DetailTable, Recogniser } from './client.ts';
import type { LinkTiming } from './definition.ts';
import type { CentreOrder, ControlOutcome } from './control.ts';
import type { Message } from './publishing/form.ts';
import type { ConversationTerms, GuestCommand, GuestNews } from './conversation.ts';

/* The session of one centre, in the same terms for every protocol. `Place` is where a point is offered. */

/** A point as it is offered. */
export interface ServerPoint<Place> {
  kind: PointKind;
  at: Place;
  /** A change smaller than this is not told; 0: every change is. */
  deadband: number;
  /** What people call it here, and its unit. */
  name?: string;
  unit?: string;
  /** False: the centre may not operate it. */
  mayOperate?: boolean;
}

export interface ServerUpdate<Place> {
  kind: PointKind;
  at: Place;
  value: number;
  text?: string;
  /** Bits of `Quality`. */
  quality: number;
  time: Instant;
  /** The time is of a clock that is not set. */
  unsynchronised?: boolean;
  /** Told even without a change. */
  always?: boolean;
  /** Any change is told, however small against the deadband, but for one that the centre has set itself. */
  moved?: boolean;
}

/**
 * What becomes of values that are set: told as changes; `quiet`: they count as told already; `shown`: they are to be
 * read, and what was told last stays what it was; `past`: they are told again as they were once, and nothing else changes by
 * it (of those that push).
 */
export type UpdateManner = 'told' | 'quiet' | 'shown' | 'past';

/** An event that has to reach the other side, in the session's own form. */
export interface OwedRecord {
  /** Events of one queue are settled in their order, as a rule. */
  queue: string;
  /** Ascending through all queues of an outbound, over restarts too. */
  number: number;
  octets: Uint8Array;
  /** It is not committed yet, although its session hands it over: `stored` says when. */
  isUncommitted?: boolean;
}

/** What an earlier session of the outbound has left. */
export interface Remembered {
  /** What it had to remember, piece by piece. */
  pieces: readonly Uint8Array[];
  /** The highest number that an event of the outbound ever had. */
  lastNumber: number;
  /** Events of earlier sessions are still to come (`owed`): until they are there, none goes out. */
  owes: boolean;
}
export const NOTHING_REMEMBERED: Remembered = { pieces: [], lastNumber: 0, owes: false };

export type ServerCommand<Place> =
  | { type: 'update'; updates: readonly ServerUpdate<Place>[]; manner?: UpdateManner }
  /** What earlier sessions told last, oldest first; some of it may still be owed. */
  | { type: 'toldBefore'; records: readonly OwedRecord[] }
  /** What earlier sessions still owe; `last`: that is all of it. */
  | { type: 'owed'; records: readonly OwedRecord[]; last: boolean }
  /** Events that it owes are committed: told to who wants it (`wantsStored`). */
  | { type: 'stored'; numbers: readonly number[] }
  /** What became of a packet that was to be carried. */
  | { type: 'carried'; packet: number }
  | { type: 'notCarried'; packet: number; words: string }
  /** A packet is to go once more, as it went; what is known of it stays as it is. */
  | { type: 'again'; packet: number; messages: readonly Message[] }
  | { type: 'controlResult'; token: number; outcomes: readonly ControlOutcome[] }
  /** An output was given a command, by whomever. */
  | {
      type: 'commandGiven';
      kind: 'output' | 'setpoint';
      at: Place;
      value: number;
      outcome: ControlOutcome;
      time: Instant;
    }
  /** Of a server that several peers use at once: who came, went, and said something. */
  /**
   * `within`: as the guest of a conversation that stands; what it is told are whole messages. `operates`: false: nothing may
   * be operated from there.
   */
  | { type: 'came'; peer: number; from?: string; within?: ConversationTerms; operates?: boolean }
  /** What a peer may do has changed (see `came`). */
  | { type: 'rights'; peer: number; operates: boolean }
  /** A client of ours is a guest of the conversations that peers make, one at a time. */
  | GuestCommand
  | { type: 'went'; peer: number }
  /** `alone`: whoever is asked there can be nobody else. */
  | { type: 'octets'; peer: number; octets: Uint8Array; alone?: boolean }
  /** Takes over another list; points that stay keep their value and their events. */
  | { type: 'setPoints'; points: readonly ServerPoint<Place>[] }
  /** Other values of settings that a running session adopts (`Side.adopts`). */
  | { type: 'setSettings'; settings: object }
  /** The session ends soon: nothing new goes out, what is under way is waited for (`awaits`). */
  | { type: 'rest' }
  /** What `Definition.outbound.orders` names is to be done, by somebody here. */
  | { type: 'order'; order: string; text?: string }
  | { type: 'resetCounters' };

/** A change on its way to the centre: of the point with that address, by its number. */
export interface Told {
  address: string;
  number: number;
}

export type ServerEffect =
  /** `peer`: to whom, where there may be several. */
  | { type: 'send'; octets: Uint8Array; peer?: number }
  /** A packet for the carrier of the outbound, which says what became of it. */
  | { type: 'carry'; packet: number; messages: readonly Message[] }
  /** A packet goes out; what came of it. */
  | { type: 'packetOut'; packet: number; records: number; messages: readonly Message[] }
  | { type: 'packetAnswered'; packet: number; problem: string | null }
  /** `own`: nobody at the other side asks for it, our settings do. */
  | {
      type: 'control';
      token: number;
      phase: 'select' | 'operate' | 'direct';
      items: CentreOrder[];
      peer?: number;
      own?: boolean;
    }
  /** The present values of these were read, for the first time since they changed. */
  | { type: 'read'; addresses: readonly string[] }
  /** What came of an order, in words. */
  | { type: 'ordered'; order: string; words: string }
  /** A change waits for the centre; `form`: how it will be carried. */
  | ({ type: 'event'; form: string } & Told)
  | { type: 'reported'; events: readonly Told[] }
  | { type: 'delivered'; events: readonly Told[] }
  /** The centre has read the present values of all points. */
  | { type: 'integrityAnswered' }
  | { type: 'heard' }
  | { type: 'diagnostic'; words: string }
  /** Something to write down, no trouble. */
  | { type: 'noted'; words: string }
  /** An event that must survive until it is settled. */
  | ({ type: 'owes' } & OwedRecord)
  /** Of a queue everything up to that number need not survive any longer, nor do those beyond it. */
  | { type: 'settled'; queue: string; position: number; beyond: readonly number[] }
  /** This is to be remembered, behind what was before, or in its place: a later session is made with all of it. */
  | { type: 'keep'; octets: Uint8Array; replaces?: boolean }
  | GuestNews
  /** That connection is done with; `words`: why, where it is ours. */
  | { type: 'hangUp'; peer?: number; words?: string };

export interface Server<Place> extends Session<ServerCommand<Place>, ServerEffect> {
  readonly counters: { readonly values: Readonly<Record<string, number>>; readonly since: Instant };
  readonly eventsWaiting: number;
  /** More than half of what may wait does; absent: it does not say. */
  readonly isCrowded?: boolean;
  /** Something that has gone out is not acknowledged yet; absent: it never waits for that. */
  readonly awaits?: boolean;
  /** It sends nothing that is not committed; absent: it sends at receipt. */
  readonly wantsStored?: boolean;
  /** What else it knows, for those who look; absent: nothing. */
  readonly details?: readonly DetailTable[];
  /** All that there is to remember, in one piece; absent: nothing is. */
  readonly keep?: Uint8Array;
  /** Everything that is owed now, for a session that goes on in its place; absent: it never owes anything. */
  readonly owed?: readonly OwedRecord[];
  /** How a present value is carried: `g30v1 i7`. */
  form(point: { kind: PointKind; at: Place }): string;
  /** What the centre is told of a quality, in the protocol's words. */
  said(kind: PointKind, quality: number): string;
  /** What it holds there now. */
  held(point: { kind: PointKind; at: Place }): { value: number; text: string };
}

/** What a protocol has for the sessions of centres. */
export interface ServerSide<Settings, Place> {
  /**
   * How many peers may be connected to one at the same time, each told by its number; null: one, whose connection starts and
   * stops the session.
   */
  peers(settings: Settings): number | null;
  make(
    settings: Settings,
    link: LinkTiming,
    points: readonly ServerPoint<Place>[],
    now: Instant,
    remembered: Remembered,
  ): Server<Place>;
  /** Knows who asks whom on such a link. */
  recogniser(centres: readonly { code: string; settings: Settings }[], link: LinkTiming): Recogniser;
}
