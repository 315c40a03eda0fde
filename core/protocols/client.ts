import type { Framing, Party } from '../line/index.ts';
import type { PointKind } from '../point/index.ts';
import type { Instant, Session } from '../session/index.ts';
import type { ControlOrder, ControlStep } from './control.ts';
import type { ConversationTerms, GuestCommand, GuestNews } from './conversation.ts';
import type { Credentials } from './credentials.ts';
import type { Carrying, Measured } from './measured.ts';
import type { PastMessage } from './past.ts';
import type { SettingField } from './settingfield.ts';

/*
 * The session of one device, in the same terms for every protocol. `Place` is a point's place, `Order` what only this
 * protocol can be asked for.
 */

/** A point of the device's list, with its number. */
export interface ClientPoint<Place> {
  id: number;
  kind: PointKind;
  at: Place;
}

/** A question about the device's files. */
export interface FileOrder {
  what: 'directory' | 'readFile' | 'deleteFile';
  name: string;
  as?: Credentials;
}

/** What an order brought besides its being done. */
export interface OrderAnswer {
  /** How long the device will be away, milliseconds. */
  awayMs?: number;
  /** What it said, for people. */
  words?: string;
  directory?: { name: string; isDirectory: boolean; size: number; time: number }[];
  /** The content of a file. */
  file?: Uint8Array;
  /** What it told, and what can be asked next. */
  tables?: readonly AnswerTable[];
}

export interface AnswerTable {
  title: string;
  columns: readonly string[];
  rows: readonly { cells: readonly string[]; asks?: readonly FollowUp[] }[];
}

/** An order that can be given next: as it stands, but for what a person fills in. */
export interface FollowUp {
  words: string;
  order: Readonly<Record<string, unknown>>;
  /** Paths are within the order. */
  fields: readonly FollowField[];
}
export type FollowField = Pick<SettingField, 'path' | 'title' | 'unit' | 'limits' | 'help'> & {
  type: Exclude<SettingField['type'], 'secret'>;
};

export type ClientCommand<Place, Order> =
  /** Readings that were handed out with this token are stored. */
  | { type: 'committed'; token: number }
  | ControlOrder<Place>
  /** Everything is to be read, now. */
  /** Other values of settings that a running session adopts (`Side.adopts`). */
  | { type: 'setSettings'; settings: object }
  | { type: 'pollNow' }
  | { type: 'setPoints'; points: readonly ClientPoint<Place>[] }
  /** Reads the present value of all that the device has, once. */
  | { type: 'survey'; id: string }
  | { type: 'order'; id: string; order: Order | FileOrder }
  | GuestCommand
  | { type: 'resetCounters' };

/** One point that a device answered with. */
export interface SurveyedPoint {
  kind: PointKind;
  address: string;
  /** How the message carried it. */
  form: string;
  /** Null: not known. */
  value: number | null;
  /** The same in words, where a number does not say it. */
  words?: string;
  /** What the device says of it, in the protocol's words. */
  said: string;
  /** What the device calls it, and its unit, where it says so. */
  name?: string;
  unit?: string;
  /** The device's own, of the value. */
  time?: Instant | null;
}

/** What a session knows beside its points, as a table for people. */
export interface DetailTable {
  key: string;
  title: string;
  columns: readonly string[];
  rows: readonly {
    key: string;
    cells: readonly string[];
    /** Since when, or when last. */
    time?: Instant | null;
    /** Cells that say that something is wrong, by their places. */
    odd?: readonly number[];
    /** What else there is of that row. */
    more?: { columns: readonly string[]; rows: readonly (readonly string[])[] };
    /** Messages of that row that came lately, the newest first: some of them can be put side by side. */
    past?: readonly PastMessage[];
  }[];
}

export interface DeviceAttribute {
  name: string;
  text: string;
}

export type ClientNews =
  /**
   * Events that were not stored before, and present values. `keep` is stored with them, and a later session of this device
   * is made with it. With a token: it waits until they are stored, and its device keeps them until then.
   */
  | {
      type: 'readings';
      readings: readonly Measured[];
      carried: Carrying;
      token: number | null;
      keep: Uint8Array | null;
    }
  /** This is to be kept instead, soon. */
  | { type: 'keep'; keep: Uint8Array }
  /** A survey has come to its end; problem: why it has not everything. */
  | {
      type: 'surveyed';
      id: string;
      problem: string | null;
      found: SurveyedPoint[];
      attributes: DeviceAttribute[];
    }
  | { type: 'communication'; state: 'answering' | 'silent'; words: string }
  | { type: 'answered'; roundTripMs: number }
  /** Somebody else answered what this device was asked. */
  | { type: 'stranger'; address: number; destination: number }
  /** The device's clock against ours: how much it is ahead, and how sure that is; milliseconds. */
  | { type: 'clock'; offsetMs: number; uncertaintyMs: number }
  /** Octets of a file that have come so far. */
  | { type: 'fileProgress'; id: string; octets: number }
  /** An order has come to its end; problem: why nothing came of it. */
  | { type: 'ordered'; id: string; problem: string | null; answer: OrderAnswer }
  /** Something to write down, no trouble. */
  | { type: 'noted'; words: string }
  | ({ type: 'control'; id: string } & ControlStep)
  /** All points that cannot be had now, whenever that is another list, and why; none: all can. */
  | { type: 'unreadable'; points: readonly number[]; words: string }
  | { type: 'diagnostic'; words: string }
  /** Of a conversation that we have made, to whoever is its guest. */
  | GuestNews
  /** The connection is good for nothing any more, and is to be made anew. */
  | { type: 'hangUp'; words: string };

/** Whoever speaks with one device. */
export interface Client<Place, Order, Event> extends Party<ClientCommand<Place, Order>, ClientNews, Event> {
  /** Nothing is left to do until the next poll. */
  readonly atRest: boolean;
  /** What whoever goes on with this device has to know. */
  readonly keep: Uint8Array;
  readonly counters: { readonly values: Readonly<Record<string, number>>; readonly since: Instant };
  /** When everything is read again; null: by no period. */
  readonly nextIntegrity: Instant | null;
  /** What the device says of itself in its answers, in words. */
  readonly indications: string[];
  /** How it has to be asked, where that is not as its settings say; null: as they say. */
  readonly learned: string | null;
  /** What else it knows, for those who look; absent: nothing. */
  readonly details?: readonly DetailTable[];
}

export interface ClientOptions<Place> {
  /** What an octet takes on the line, milliseconds; 0: there is no line. */
  octetMs: number;
  /** How long the link may be away before the device counts as silent; absent: as long as all tries take. */
  absenceMs?: number;
  /** What the last session of this device had to keep. */
  remembered: Uint8Array | null;
  points: readonly ClientPoint<Place>[];
  /** Which part of a long period passes before its first poll. */
  phase: number;
  /** What people call the device here: what we make at its place is called after it. Absent: nobody says. */
  code?: string;
  /** It is the guest of a conversation that stands whenever it is started; absent: it makes its own. */
  within?: () => ConversationTerms;
}

/** Finds out who is behind a connection that they made. Nothing is taken from them. */
export interface Recogniser {
  /** Those that these octets come from. */
  push(bytes: Uint8Array, now: Instant): string[];
}

export type TrialEffect =
  | { type: 'send'; octets: Uint8Array }
  | { type: 'step'; step: string; state: 'running' | 'good' | 'odd' | 'bad'; words: string; meaning: string }
  | { type: 'ended'; good: boolean };

/** What a protocol has for the sessions of devices. */
export interface ClientSide<Settings, Place, Order, Event> {
  /** How octets of such a link are told apart. */
  framing(framing: string, octetMs: number): Framing<Event>;
  make(settings: Settings, framing: string, now: Instant, options: ClientOptions<Place>): Client<Place, Order, Event>;
  /** Knows devices that call; null: they do not call. */
  recogniser(devices: readonly { code: string; settings: Settings }[]): Recogniser | null;
  /** What to ask one that called and says nothing; null: nothing. */
  question(settings: Settings): Uint8Array | null;
  /** A first conversation with a device that is not in service yet. */
  trial(settings: Settings, framing: string, now: Instant): Session<never, TrialEffect>;
}
