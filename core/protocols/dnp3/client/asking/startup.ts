import type { Instant } from '../../../../session/index.ts';
import type { MasterSettings } from '../../settings.ts';
import type { ReadPlan } from './readplan.ts';
import { ALL_CLASSES, isSurvey, type Task } from '../task.ts';

/**
 * What is asked before the polls go on, the next first: on each connection and after a restart of the device unsolicited
 * reporting is switched off, all is read, and reporting is switched on for the classes that are to come unasked; surveys
 * follow.
 */
export class StartUp {
  private tasks: Task[] = [];
  since: Instant = 0;

  constructor(
    private readonly settings: MasterSettings,
    private readonly plan: ReadPlan,
    /** The device does not know such a request. */
    private readonly isDeclined: (type: Task['type']) => boolean,
    private readonly giveUp: (task: Task, words: string) => void,
  ) {}

  get length(): number {
    return this.tasks.length;
  }

  get first(): Task | undefined {
    return this.tasks[0];
  }

  get hasRead(): boolean {
    return this.tasks.some(({ type }) => type === 'read');
  }

  has(type: Task['type']): boolean {
    return this.tasks.some((task) => task.type === type);
  }

  begin(now: Instant): void {
    const surveys = this.tasks.filter(isSurvey);
    const { disableUnsolicited } = this.settings;
    this.since = now;
    this.tasks = disableUnsolicited && !this.isDeclined('disableUnsolicited') ? [{ type: 'disableUnsolicited' }] : [];
    this.tasks.push(...this.plan.parts(ALL_CLASSES));
    if (this.settings.unsolicitedClasses.length > 0 && !this.isDeclined('enableUnsolicited'))
      this.add('enableUnsolicited');
    this.tasks.push(...surveys);
  }

  /** It answers, but not what it was asked first: perhaps that got lost. */
  add(type: 'disableUnsolicited' | 'enableUnsolicited'): void {
    this.tasks.push(type === 'disableUnsolicited' ? { type } : { type, classes: this.settings.unsolicitedClasses });
  }

  /** Everything is to be read, before the polls go on. */
  readAll(now: Instant): void {
    if (this.tasks.some((task) => task.type === 'read' && task.survey === undefined)) return;
    if (this.tasks.length === 0) this.since = now;
    this.tasks.push(...this.plan.parts(ALL_CLASSES));
  }

  survey(id: string): void {
    this.tasks.push(this.plan.survey(id));
  }

  doFirst(task: Task): void {
    this.tasks.unshift(task);
  }

  shift(): Task | undefined {
    return this.tasks.shift();
  }

  leaveOut(type: Task['type']): void {
    this.tasks = this.tasks.filter((task) => task.type !== type);
  }

  drop(words: string): void {
    for (const task of this.tasks.splice(0)) this.giveUp(task, words);
  }
}
