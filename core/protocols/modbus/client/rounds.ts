import { Quality, qualityWords } from '../../../point/index.ts';
import { sameBytes } from '../../../bytes/index.ts';
import type { Instant } from '../../../session/index.ts';
import { firstRoundMs } from '../../polling/schedule.ts';
import type { ClientOptions, ClientPoint, SurveyedPoint } from '../../client.ts';
import { isBitTable, placeWords, type ModbusAt } from '../points.ts';
import { periodOf, type ClientSettings } from '../settings.ts';
import type { FramingName } from '../wire/frame.ts';
import { blockWords, halved, planBlocks, withoutGaps, type Block } from './blocks.ts';
import { readingsOf, type RegisterReading } from './readings.ts';

/** A block as it is read again and again. */
export interface RunningBlock {
  block: Block;
  /** When it is to be read next; null: not by itself. */
  due: Instant | null;
  underWay: boolean;
  readAt: Instant | null;
  /** What its last answer brought; null: all of it is to be handed out again. And when that was done last. */
  data: Uint8Array | null;
  toldAt: Instant;
  /** What its last answer brought, whatever is to be handed out. */
  last: Uint8Array | null;
  /** The device refuses it, or leaves it unanswered: why. */
  refused: string | null;
  /** It has been given its place in its period. */
  placed: boolean;
}

/** What is refused or left unanswered is asked for again so rarely. */
const REFUSED_PAUSE_MS = 60_000;
/** What is read once for each connection is not read again so soon: some servers close after each answer. */
const ONCE_AGAIN_MS = 5000;
/** What does not change is handed out so rarely. */
const ALL_AGAIN_MS = 5000;

/** Which blocks of a device are read when, and what is known of each. */
export class Rounds {
  private blocks: RunningBlock[] = [];

  constructor(
    private readonly settings: ClientSettings,
    private readonly framing: FramingName,
    private readonly options: Pick<ClientOptions<ModbusAt>, 'octetMs' | 'phase'>,
  ) {}

  get length(): number {
    return this.blocks.length;
  }

  /** Whether nothing will be read by itself. */
  get isDone(): boolean {
    return !this.blocks.some(({ due }) => due !== null);
  }

  get learned(): string | null {
    const refused = this.blocks.filter((one) => one.refused !== null);
    if (refused.length === 0) return null;
    return refused.map(({ block, refused: why }) => `${blockWords(block)}: ${why}`).join('; ');
  }

  /** What the list asks for; blocks that stay go on. */
  plan(points: readonly ClientPoint<ModbusAt>[], now: Instant): void {
    const before = new Map(this.blocks.map((one) => [keyOf(one.block), one]));
    this.blocks = planBlocks(points, this.settings, this.framing, this.options.octetMs).map((block) => {
      const known = before.get(keyOf(block));
      return known ? { ...known, block, underWay: false, data: null } : newRunning(block, now);
    });
  }

  /** What is read once for each connection is due. */
  connected(now: Instant): void {
    for (const one of this.blocks) {
      const once = periodOf(this.settings, one.block.group) === 0;
      if (once && (one.readAt === null || now - one.readAt > ONCE_AGAIN_MS)) one.due = now;
    }
  }

  /** All of it is due, and told whether it has changed or not. */
  all(now: Instant): void {
    for (const one of this.blocks) [one.due, one.data] = [now, null];
  }

  /** What was under way is not any more. */
  release(): void {
    for (const one of this.blocks) one.underWay = false;
  }

  has(running: RunningBlock): boolean {
    return this.blocks.includes(running);
  }

  /** One of them, by turns. */
  at(turn: number): RunningBlock | undefined {
    return this.blocks.at(turn % Math.max(1, this.blocks.length));
  }

  /** One that can be read, beside this. */
  other(running: RunningBlock): RunningBlock | undefined {
    return this.blocks.find((one) => one !== running && one.refused === null);
  }

  /** When the next of them is due; infinite: never. */
  get nextDue(): number {
    let next = Infinity;
    for (const { due, underWay } of this.blocks) if (due !== null && !underWay && due < next) next = due;
    return next;
  }

  mostDue(now: Instant): RunningBlock | null {
    let found: RunningBlock | null = null;
    for (const one of this.blocks)
      if (one.due !== null && !one.underWay && now >= one.due && (found?.due == null || one.due < found.due))
        found = one;
    return found;
  }

  /** The rest of the round is left out. */
  drop(now: Instant): void {
    for (const one of this.blocks) if (one.due !== null && !one.underWay && one.due <= now) this.settle(one, now);
  }

  /** When a block that has just been dealt with is to be read again. */
  settle(running: RunningBlock, now: Instant): void {
    const period = periodOf(this.settings, running.block.group);
    if (running.refused !== null) running.due = now + Math.max(REFUSED_PAUSE_MS, period);
    else if (period === 0) running.due = null;
    else if (!running.placed) running.due = now + firstRoundMs(period, this.options.phase);
    // What is behind does not catch up.
    else running.due = Math.max((running.due ?? now) + period, now);
    running.placed = true;
  }

  /**
   * Its answer has come: what has changed since the last one, and all of it now and then, so that it is seen to be
   * fresh. Nothing of a block that is not in the list any more.
   */
  read(running: RunningBlock, data: Uint8Array, now: Instant): RegisterReading[] {
    if (!this.has(running)) return [];
    const { block, data: before } = running;
    running.readAt = now;
    running.refused = null;
    this.settle(running, now);
    const all = before === null || now - running.toldAt >= ALL_AGAIN_MS;
    running.data = running.last = data;
    if (all) running.toldAt = now;
    return all ? readingsOf(block, data) : sameBytes(before, data) ? [] : readingsOf(block, data, before);
  }

  /** Asks for it in smaller pieces from now on; false: it has none. */
  cut(running: RunningBlock, now: Instant): boolean {
    const parts = this.has(running) ? (withoutGaps(running.block) ?? halved(running.block)) : null;
    if (parts === null) return false;
    const own = parts.map((block) => newRunning(block, now));
    this.blocks = this.blocks.flatMap((one) => (one === running ? own : [one]));
    return true;
  }

  /** The device does not give it; says whether that is new. */
  refuse(running: RunningBlock, words: string, now: Instant): boolean {
    const isNews = running.refused !== words;
    running.refused = words;
    running.data = null;
    this.settle(running, now);
    return isNews;
  }

  /** The blocks that bring a place. */
  touching({ table, address }: ModbusAt): RunningBlock[] {
    return this.blocks.filter(
      ({ block }) => block.table === table && address >= block.start && address < block.start + block.count,
    );
  }

  /** What has been read of the list: a server cannot say what else it has. */
  found(): SurveyedPoint[] {
    return this.blocks.flatMap(({ block, last, refused }) =>
      last === null || refused !== null
        ? []
        : readingsOf(block, last).map(({ kind, point: { at }, raw, text, quality }) => ({
            ...{ kind, address: placeWords(at), form: isBitTable(at.table) ? 'bit' : at.type },
            ...{ value: quality & Quality.notANumber ? null : raw, said: qualityWords(quality) },
            ...(text === undefined ? {} : { words: text }),
          })),
    );
  }

  /** Points that cannot be had now. */
  get unreadable(): number[] {
    return this.blocks.flatMap(({ block, refused }) => (refused === null ? [] : block.points.map(({ id }) => id)));
  }
}

const keyOf = ({ group, table, start, count, points }: Block): string =>
  `${group} ${table} ${start} ${count} ${points.map(({ id, at }) => `${id} ${at.type} ${at.order}`).join(',')}`;

const newRunning = (block: Block, now: Instant): RunningBlock => ({
  ...{
    block,
    due: now,
    underWay: false,
    readAt: null,
    data: null,
    last: null,
    toldAt: 0,
    refused: null,
    placed: false,
  },
});
