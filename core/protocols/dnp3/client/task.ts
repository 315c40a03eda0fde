import type { Priority } from '../../../line/index.ts';
import type { Instant } from '../../../session/index.ts';
import type { DeviceAttribute } from '../attributes.ts';
import type { FileJob } from '../files/filejob.ts';
import type { OrderAnswer, Requested } from '../order.ts';
import type { Fragment } from '../wire/application.ts';
import type { ControlRequest, MasterEffect } from './mastermessages.ts';
import type { MasterSettings } from '../settings.ts';
import type { ReadPart } from './asking/readplan.ts';

/*
 * What a master may do with its turn: a task is one request and what comes of it. The life of each kind stands in one
 * place (`tasks/`): its octets, its answer, what follows when none comes, its words and its urgency.
 */

export type Task =
  | { type: 'disableUnsolicited' }
  | { type: 'enableUnsolicited'; classes: readonly number[] }
  | { type: 'clearRestart' }
  | ReadPart
  /** What the device says of itself: the end of a survey. */
  | { type: 'attributes'; survey: string }
  | { type: 'measureDelay' }
  | { type: 'writeTime'; oneWayMs: number }
  /** The device notes the moment at which this ends, and is told afterwards what time it was. */
  | { type: 'recordTime' }
  | { type: 'writeRecordedTime'; at: Instant }
  | { type: 'readClock' }
  | { type: 'order'; id: string; order: Requested }
  /** One step of a wish about a file. */
  | { type: 'file'; id: string; job: FileJob }
  /** To all devices on the line; nothing is answered. */
  | { type: 'broadcast'; id: string; functionCode: number; objects: Uint8Array; words: string }
  | { type: 'control'; request: ControlRequest; phase: 'select' | 'operate' };

export type TaskOf<Type extends Task['type']> = Extract<Task, { type: Type }>;

export const isSurvey = (task: Task): task is Task & { survey: string } =>
  (task.type === 'read' || task.type === 'attributes') && task.survey !== undefined;

export const ALL_CLASSES = [1, 2, 3, 0] as const;

/** A task that waits, since when, and what is done as it is taken up. */
export interface WaitingTask {
  task: Task;
  priority: Priority;
  since: Instant;
  taken: (now: Instant) => unknown;
}

/** What came in answer to a request, all fragments together; `fragment` is the last one. */
export interface Answer {
  fragment: Fragment;
  sentAt: Instant;
  /** New events that it brought, and whether a device may bring forth equal ones. */
  fresh: number;
  ambiguous: boolean;
  /** Events that it repeated are ambiguous. */
  repeated: boolean;
  /** Objects of the answer could not be read. */
  unreadable: boolean;
  /** Of which groups it brought events. */
  groups: ReadonlySet<number>;
  /** It brought anything at all. */
  objects: boolean;
}

/** What the end of a task may do in its conversation. */
export interface Conversation {
  readonly settings: MasterSettings;
  readonly controls: {
    /** Returns whether the operate is to be sent now. */
    answered(task: TaskOf<'control'>, fragment: Fragment, now: Instant): boolean;
    unanswered(task: TaskOf<'control'>, words: string): void;
  };
  readonly reads: { answered(task: ReadPart, answer: Answer, now: Instant): void };
  readonly clock: { wasSet(now: Instant): void; cannotBeRead(): void };
  report(effect: MasterEffect): void;
  /** Sends it in the same turn. */
  sendNow(task: Task, now: Instant): void;
  /** It comes before everything else that start-up has to do. */
  doFirst(task: Task): void;
  /** The next request of an order that takes several: it waits for its turn among the polls. */
  doNext(task: TaskOf<'file' | 'broadcast'>, now: Instant): void;
  endOrder(id: string, problem: string | null, answer?: OrderAnswer): void;
  endSurvey(id: string, problem: string | null, attributes?: DeviceAttribute[]): void;
}

/** The life of a kind of task. */
export interface Rules<Kind extends Task> {
  priority(task: Kind): Priority;
  /** For those who watch the line. */
  words(task: Kind): string;
  request(task: Kind, now: Instant): [functionCode: number, objects: Uint8Array];
  /** Its request is on the way and nothing is answered: what is done then. Absent: an answer is awaited. */
  unawaited?(task: Kind): ((talk: Conversation, at: Instant) => void) | null;
  answered(task: Kind, answer: Answer, talk: Conversation, now: Instant): void;
  /**
   * No answer came. `again`: it may be sent once more while tries are left; absent, it may too, and the device is silent
   * when they are spent.
   */
  unanswered?(task: Kind, attempt: number, talk: Conversation, now: Instant): 'again' | 'over';
  /** A device may well refuse it: nothing is said then. */
  mayBeRefused?: boolean;
  /** A device may leave it unanswered, and is polled all the same; it is said then by this name. */
  dispensable?: string;
}
