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
  /** How often in a row it has failed in a way that may pass. */
  failures: number;
  /** What it is a piece of, where that may be read as a whole again; null: nothing. */
  split: Split | null;
}

/** A block that was cut for a reason that may pass: its pieces are put together again when all of them can be read. */
interface Split {
  whole: Block;
  at: Instant;
  pauseMs: number;
}

/** What is refused or left unanswered is asked for again so rarely. */
const REFUSED_PAUSE_MS = 60_000;
/** What has failed once and is read once for each connection is read again after so long. */
const FAILED_PAUSE_MS = 1000;
/** What is read once for each connection is not read again so soon: some servers close after each answer. */
const ONCE_AGAIN_MS = 5000;
/** What was cut is tried as a whole again after so long, and twice as long each time that it has to be cut again. */
const REJOIN_FIRST_MS = 60_000;
const REJOIN_MOST_MS = 3_600_000;
/** What does not change is handed out so rarely. */
const ALL_AGAIN_MS = 5000;

/** Which blocks of a device are read when, and what is known of each. */
export class Rounds {
  private blocks: RunningBlock[] = [];
  /** How long the next pause is before a block is tried as a whole again, by its key. */
  private readonly pauses = new Map<string, number>();
  /** Blocks that were cut. */
  private wholes: Block[] = [];

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
    const words = refused.map(({ block, refused: why }) => `${blockWords(block)}: ${why}`);
    const limit = this.limit();
    if (limit !== null) words.push(limit);
    return words.length === 0 ? null : words.join('; ');
  }

  /** What the device seems to answer at most in one request, in words; null: nothing says that. */
  private limit(): string | null {
    const whole = this.wholes.filter((one) => !isBitTable(one.table) && withoutGaps(one) === null);
    const tooLong = whole.filter((one) =>
      this.piecesOf(one).every(({ readAt, refused }) => readAt !== null && refused === null),
    );
    const least = Math.min(Infinity, ...tooLong.map(({ count }) => count));
    const answered = this.blocks.filter(
      ({ block, readAt, refused }) =>
        !isBitTable(block.table) && readAt !== null && refused === null && block.count < least,
    );
    const most = Math.max(0, ...answered.map(({ block }) => block.count));
    return least === Infinity || most < 2
      ? null
      : `answers requests for ${most} registers, not for ${least}: ${most} may be its most in one request`;
  }

  private piecesOf({ points }: Block): RunningBlock[] {
    const own = new Set(points.map(({ id }) => id));
    return this.blocks.filter(({ block }) => block.points.some(({ id }) => own.has(id)));
  }

  /** What the list asks for; blocks that stay go on. */
  plan(points: readonly ClientPoint<ModbusAt>[], now: Instant): void {
    const before = new Map(this.blocks.map((one) => [keyOf(one.block), one]));
    this.wholes = [];
    this.pauses.clear();
    this.blocks = planBlocks(points, this.settings, this.framing, this.options.octetMs).map((block) => {
      const known = before.get(keyOf(block));
      return known ? { ...known, block, underWay: false, data: null, split: null } : newRunning(block, now);
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
    running.failures = 0;
    this.settle(running, now);
    this.rejoin(running, now);
    const all = before === null || now - running.toldAt >= ALL_AGAIN_MS;
    running.data = running.last = data;
    if (all) running.toldAt = now;
    return all ? readingsOf(block, data) : sameBytes(before, data) ? [] : readingsOf(block, data, before);
  }

  /** Asks for it in smaller pieces from now on, `forGood` or until it may be read again; false: it has none. */
  cut(running: RunningBlock, now: Instant, forGood: boolean): boolean {
    const parts = this.has(running) ? (withoutGaps(running.block) ?? halved(running.block)) : null;
    if (parts === null) return false;
    const split = forGood ? running.split : (running.split ?? this.splitOf(running.block, now));
    if (split !== null) split.at = now;
    this.wholes.push(running.block);
    const own = parts.map((block) => ({ ...newRunning(block, now), split }));
    this.blocks = this.blocks.flatMap((one) => (one === running ? own : [one]));
    return true;
  }

  private splitOf(whole: Block, now: Instant): Split {
    const key = keyOf(whole);
    const pauseMs = this.pauses.get(key) ?? REJOIN_FIRST_MS;
    this.pauses.set(key, Math.min(REJOIN_MOST_MS, pauseMs * 2));
    return { whole, at: now, pauseMs };
  }

  /** Pieces that can all be read again are asked for as a whole. */
  private rejoin({ split }: RunningBlock, now: Instant): void {
    if (split === null || now < split.at + split.pauseMs) return;
    const pieces = this.blocks.filter((one) => one.split === split);
    if (pieces.some(({ refused, failures, readAt }) => refused !== null || failures > 0 || (readAt ?? 0) < split.at))
      return;
    const [first] = pieces;
    this.wholes = this.wholes.filter(
      (one) => !one.points.some(({ id }) => split.whole.points.some((own) => own.id === id)),
    );
    this.blocks = this.blocks.flatMap((one) =>
      one === first ? [newRunning(split.whole, now)] : one.split === split ? [] : [one],
    );
  }

  /** It has failed in a way that may pass; returns how often in a row. It is asked for again at its time, and soon at least. */
  failed(running: RunningBlock, now: Instant): number {
    running.failures++;
    this.settle(running, now);
    running.due ??= now + FAILED_PAUSE_MS;
    return running.failures;
  }

  /** A piece of a block, to see whether the device is there at all; null: the block is the smallest that there is. */
  pieceOf({ block }: RunningBlock, now: Instant): RunningBlock | null {
    const [piece] = withoutGaps(block) ?? halved(block) ?? [];
    return piece === undefined ? null : newRunning(piece, now);
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
    failures: 0,
    split: null,
  },
});
