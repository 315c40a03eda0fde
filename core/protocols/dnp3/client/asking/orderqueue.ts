import type { Instant } from '../../../../session/index.ts';
import { FileJob } from '../../files/filejob.ts';
import { isFileOrder, type Order } from '../../order.ts';
import { Priority } from '../../../../line/index.ts';
import type { Task, TaskOf, WaitingTask } from '../task.ts';
import { broadcastTask } from '../tasks/index.ts';

const MAX_WAITING = 16;
/** How long polls that are due keep the next step of an order from its turn. */
const STEP_PATIENCE_MS = 1000;
/** Octets of an answer with a block of a file, beside the block. */
const FILE_OVERHEAD = 4 + 6 + 8;

interface WaitingOrder {
  id: string;
  order: Order;
  since: Instant;
}

/** What people asked of the device beyond its points: orders that wait, and those under way that take several requests. */
export class OrderQueue {
  private waiting: WaitingOrder[] = [];
  /** The next request of each order under way. */
  private steps: TaskOf<'file' | 'broadcast'>[] = [];
  private stepSince: Instant = 0;
  private fileRequests = 0;

  constructor(
    private readonly maxFragment: number,
    private readonly end: (id: string, problem: string | null) => void,
  ) {}

  get size(): number {
    return this.waiting.length + this.steps.length;
  }

  add(waiting: WaitingOrder): void {
    if (this.waiting.length >= MAX_WAITING) this.end(waiting.id, `${MAX_WAITING} orders wait already`);
    else this.waiting.push(waiting);
  }

  doNext(task: TaskOf<'file' | 'broadcast'>, now: Instant): void {
    this.steps.push(task);
    this.stepSince = now;
  }

  /** Polls that are due go first; where some always are, a step takes the place of one now and then. */
  next(poll: WaitingTask | null, clockTask: () => Task, now: Instant): WaitingTask | null {
    const [step] = this.steps;
    if (step !== undefined && (poll === null || now - this.stepSince >= STEP_PATIENCE_MS))
      return {
        task: step,
        priority: poll?.priority ?? Priority.background,
        since: this.stepSince,
        taken: () => this.steps.shift(),
      };
    const [first] = this.waiting;
    if (first === undefined) return null;
    const { id, order, since } = first;
    const taken = (): void => {
      this.waiting.shift();
      if (order.what === 'synchronise') this.end(id, null);
    };
    const task = order.what === 'synchronise' ? clockTask() : this.taskOf(id, order);
    return { task, priority: Priority.background, since, taken };
  }

  private taskOf(id: string, order: Exclude<Order, { what: 'synchronise' }>): Task {
    if (order.what === 'broadcast') return broadcastTask(id, order.job);
    if (!isFileOrder(order)) return { type: 'order', id, order };
    this.fileRequests = (this.fileRequests + 1) & 0xffff;
    return { type: 'file', id, job: new FileJob(order, this.maxFragment - FILE_OVERHEAD, this.fileRequests) };
  }

  failSteps(words: string): void {
    for (const { id } of this.steps.splice(0)) this.end(id, words);
  }

  failAll(words: string): void {
    for (const { id } of this.waiting.splice(0)) this.end(id, words);
    this.failSteps(words);
  }
}
