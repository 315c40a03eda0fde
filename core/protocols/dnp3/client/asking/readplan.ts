import type { MasterSettings } from '../../settings.ts';

/*
 * How a device is asked for its events and present values: by all classes in one request, class by class, or by
 * objects, where it knows no classes. Begins as the settings say; what the device refuses is learned and not asked for
 * again.
 *
 * events are asked   what happens                                      and then
 * -----------------  ------------------------------------------------  --------------------------------------------
 * in any way         an answer that cannot be read                     the same once more: it may have been spoilt
 * together           again                                             class by class
 * class by class     again                                             by object, on trial: classes are compared
 * by object          events wait that it does not bring, or seem to    each class is read once, to compare
 * by object          that can be read                                  as the settings say
 * by object          that has events which it still does not bring     class by class for good: what stands before
 *                                                                      an object that nobody knows is taken, and
 *                                                                      the rest is lost; that is said
 */

/** A read: of classes, or of all objects of the groups. */
export interface ReadPart {
  type: 'read';
  classes: readonly number[];
  groups?: readonly number[];
  /** At most so many events of each class; absent: all. */
  limit?: number;
  /** With it, the groups asked for one after the other have been read to the end. */
  closes?: boolean;
  /** A class that is read to see whether asking by object brings what there is. */
  compares?: boolean;
  survey?: string;
}

const EVENT_GROUPS = [2, 4, 11, 22, 23, 32, 42, 111] as const;
const STATIC_GROUPS = [1, 3, 10, 20, 21, 30, 40, 110] as const;
const FIRST_GROUP_BIT = 3;

/** The event classes that a part reads, as bits 1, 2 and 4; single event objects as higher bits. */
export function scopeOf({ classes, groups = [] }: ReadPart): number {
  const events: readonly number[] = EVENT_GROUPS;
  const ofClasses = classes.reduce((bits, n) => (n > 0 ? bits | (1 << (n - 1)) : bits), 0);
  return groups.reduce((bits, group) => {
    const at = events.indexOf(group);
    return at < 0 ? bits : bits | (1 << (FIRST_GROUP_BIT + at));
  }, ofClasses);
}

export const readsPresent = ({ classes, groups = [] }: ReadPart): boolean =>
  classes.includes(0) || groups.some((group) => (STATIC_GROUPS as readonly number[]).includes(group));

/** An answer without its end is not taken as it is before it has come so so often. */
const MOST_SHORT = 30;

const keyOf = ({ classes, groups = [], compares = false }: ReadPart): string =>
  `${classes.join()} ${groups.join()} ${compares}`;

export class ReadPlan {
  private events: MasterSettings['eventReads'];
  private present: MasterSettings['presentReads'];
  private readonly withoutClasses = new Set<number>();
  private readonly withoutGroups = new Set<number>();
  /** Parts whose last answers could not be read, and how many: each is asked once more. */
  private readonly again = new Map<string, number>();
  /** Events are asked for by object because answers to classes could not be read. */
  private isOnTrial = false;
  /** What cannot be read of an answer is given up. */
  private isLenient = false;

  constructor(private readonly settings: Pick<MasterSettings, 'eventReads' | 'presentReads' | 'eventsAtOnce'>) {
    this.events = settings.eventReads;
    this.present = settings.presentReads;
  }

  /** What was learned of the device, in words; null: it takes what the settings say. */
  get words(): string | null {
    const learned: string[] = [];
    if (this.events !== this.settings.eventReads)
      learned.push(this.events === 'apart' ? 'classes are asked one by one' : 'events are asked for by object');
    if (this.isLenient) learned.push('what stands behind an object that cannot be read is lost');
    if (this.present !== this.settings.presentReads) learned.push('present values are asked for by object');
    if (this.withoutClasses.size > 0 && this.events === 'apart')
      learned.push(`it has no class ${[...this.withoutClasses].join(', ')}`);
    return learned.length > 0 ? learned.join('; ') : null;
  }

  /** The requests that together read these classes (0: present values). */
  parts(classes: readonly number[]): ReadPart[] {
    const wanted = classes.filter((n) => n > 0 && !this.withoutClasses.has(n));
    const present = classes.includes(0);
    if (this.events === 'together' && this.present === 'class0' && wanted.length > 0)
      return [this.limited(present ? [...wanted, 0] : wanted)];
    const parts: ReadPart[] = [];
    if (this.events === 'objects' && classes.some((n) => n > 0)) {
      const groups = EVENT_GROUPS.filter((group) => !this.withoutGroups.has(group));
      groups.forEach((group, at) =>
        parts.push({
          type: 'read',
          classes: [],
          groups: [group],
          ...(at === groups.length - 1 ? { closes: true } : {}),
        }),
      );
    } else if (this.events === 'together' && wanted.length > 0) parts.push(this.limited(wanted));
    else for (const n of wanted) parts.push(this.limited([n]));
    if (present && this.present === 'class0') parts.push({ type: 'read', classes: [0] });
    if (present && this.present === 'objects')
      for (const group of STATIC_GROUPS)
        if (!this.withoutGroups.has(group)) parts.push({ type: 'read', classes: [], groups: [group] });
    return parts;
  }

  /** The present values of all that it has, in one request. */
  survey(id: string): ReadPart {
    return this.present === 'class0'
      ? { type: 'read', classes: [0], survey: id }
      : {
          type: 'read',
          classes: [],
          groups: STATIC_GROUPS.filter((group) => !this.withoutGroups.has(group)),
          survey: id,
        };
  }

  private limited(classes: readonly number[]): ReadPart {
    const { eventsAtOnce } = this.settings;
    return { type: 'read', classes, ...(eventsAtOnce > 0 ? { limit: eventsAtOnce } : {}) };
  }

  /** Whether asking by object is to be compared with asking by class. */
  get isCompared(): boolean {
    return this.events === 'objects' && this.isOnTrial;
  }

  /** Each class by itself. */
  comparing(): ReadPart[] {
    return [1, 2, 3].map((n) => ({ type: 'read', classes: [n], compares: true }));
  }

  /** Asking by object does not bring what there is. */
  giveUpObjects(): void {
    [this.events, this.isOnTrial, this.isLenient] = ['apart', false, true];
  }

  /**
   * Whether an answer to it that cannot be read is taken as far as it can be: there is no other way to ask. `isShort`: its
   * end is missing, which the next one may have.
   */
  isLastResort(part: ReadPart, isShort: boolean): boolean {
    const times = this.again.get(keyOf(part)) ?? 0;
    const isOnlyWay = part.groups !== undefined || (this.isLenient && part.compares !== true);
    return isOnlyWay && times >= (isShort ? MOST_SHORT : 1);
  }

  /** Present values of which it is known that they are not asked for, or cannot be read. */
  get missesPresent(): boolean {
    return STATIC_GROUPS.some((group) => this.withoutGroups.has(group));
  }

  /** Its answer could be read. */
  understood(part: ReadPart): void {
    this.again.delete(keyOf(part));
  }

  /** What was learned was wrong. */
  forget(): void {
    this.again.clear();
    [this.isOnTrial, this.isLenient] = [false, false];
    this.events = this.settings.eventReads;
    this.present = this.settings.presentReads;
    this.withoutClasses.clear();
    this.withoutGroups.clear();
  }

  /** The device refuses a part, or its answer cannot be read: returns what to ask instead. */
  refused(part: ReadPart, how: 'refused' | 'unreadable'): ReadPart[] {
    const { classes, groups } = part;
    const key = keyOf(part);
    const times = this.again.get(key) ?? 0;
    if (how === 'unreadable') this.again.set(key, times + 1);
    if (how === 'unreadable' && times === 0) return [part];
    if (how === 'unreadable' && this.isLenient && !classes.includes(0)) return [];
    if (groups !== undefined) {
      if (how === 'refused') for (const group of groups) this.withoutGroups.add(group);
      return [];
    }
    if (classes.length > 1) {
      this.events = 'apart';
      return this.parts(classes);
    }
    const [only] = classes;
    if (only === 0) this.present = 'objects';
    else if (how === 'unreadable') [this.events, this.isOnTrial] = ['objects', true];
    else {
      this.withoutClasses.add(only);
      // What knows no event class at all may still know its events.
      if (this.withoutClasses.size < 3) return [];
      this.events = 'objects';
      this.withoutClasses.clear();
    }
    return this.parts(classes);
  }
}
