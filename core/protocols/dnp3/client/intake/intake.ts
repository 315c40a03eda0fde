import type { PointKind } from '../../../../point/index.ts';
import type { CounterSet } from '../../counters.ts';
import { Iin, IIN_CLASS_EVENTS, type Fragment } from '../../wire/application.ts';
import type { ReceivedFragment } from '../../wire/endpoint.ts';
import { measuredReadings, type MeasuredReading } from '../../wire/measured.ts';
import { ClassBits } from './classbits.ts';
import { CarryingFragment, PointNumbers, type ListedPoint } from './carried.ts';
import type { MasterEffect } from '../mastermessages.ts';
import { ReplayGuard, type Carried } from './replay.ts';
import { Unheard } from './unheard.ts';

/** The readings of fragments on their way to the owner: resolved to points, and freed of what came before. */
export class Intake {
  private readonly guard: ReplayGuard;
  private numbers: PointNumbers;
  private readonly numberOf = (kind: PointKind, index: number): number | null => this.numbers.of(kind, index);
  /** What was kept last has events that may be brought forth again. */
  private keptAmbiguous = false;
  /** Of the latest readings that have to be committed. */
  token = 0;

  constructor(
    { remembered, points }: { remembered?: Uint8Array | null; points?: readonly ListedPoint[] },
    private readonly counters: CounterSet,
    private readonly report: (effect: MasterEffect) => void,
  ) {
    this.guard = new ReplayGuard(remembered ?? null);
    this.numbers = new PointNumbers(points);
  }

  /** What whoever goes on with this device has to know. */
  get keep(): Uint8Array {
    return this.guard.remembered();
  }

  setPoints(points: readonly ListedPoint[]): void {
    this.numbers = new PointNumbers(points);
  }

  /** A connection begins: events may have come before. */
  doubt(): void {
    this.bits.forget();
    this.guard.doubt();
  }

  /** What a response carries besides its answer to the request. */
  read(fragment: Fragment): ReturnType<typeof measuredReadings> {
    const taken = measuredReadings(fragment, this.numberOf);
    const { readings, commands, problem } = taken;
    if (problem !== null) {
      this.counters.add('malformedFragments');
      this.report({ type: 'diagnostic', words: `answer not understood from here on: ${problem.words}` });
    }
    let events = 0;
    for (const { event } of readings) if (event) events++;
    this.counters.add('events', events);
    if (commands.length > 0) this.report({ type: 'commandsReported', commands });
    return taken;
  }

  /** Hands out present values and the events that are new; with `confirm` they have to be committed. */
  passOn(
    readings: readonly MeasuredReading[],
    received: ReceivedFragment,
    confirm: boolean,
    carried: Omit<Carried, 'overflow' | 'waiting'>,
    survey: { survey?: string },
  ): { fresh: number; ambiguous: boolean; repeated: boolean } {
    // Nearly always events come alone, and nothing comes again.
    const events = readings.every(({ event }) => event) ? readings : readings.filter(({ event }) => event);
    const iin = received.fragment.iin ?? 0;
    const overflow = (iin & Iin.eventBufferOverflow) !== 0;
    const { scope, first, final, unsolicited, promptly, soon } = carried;
    const { fresh, ambiguous, repeated } = this.guard.admit(events, {
      scope,
      first,
      final,
      unsolicited,
      promptly,
      soon,
      overflow,
      waiting: this.waiting(carried, events.length > 0, iin),
    });
    let freshEvents = 0;
    for (const isFresh of fresh) if (isFresh) freshEvents++;
    let at = 0;
    if (freshEvents > 0) this.unheard.over();
    else if (events.length > 0 && confirm) this.unheard.again();
    const taken = freshEvents === events.length ? readings : readings.filter(({ event }) => !event || fresh[at++]);
    const token = confirm ? ++this.token : null;
    const keep = token === null ? null : this.guard.remembered();
    if (token !== null) this.keptAmbiguous = this.guard.hasAmbiguous;
    const carrying = new CarryingFragment(received.frames);
    this.report({ type: 'readings', readings: taken, carried: carrying, token, keep, ...survey });
    return { fresh: freshEvents, ambiguous, repeated };
  }

  readonly unheard = new Unheard((words) => this.report({ type: 'diagnostic', words }));
  private readonly bits = new ClassBits();

  private waiting(
    { scope, unsolicited }: Pick<Carried, 'scope' | 'unsolicited'>,
    hasEvents: boolean,
    iin: number,
  ): number {
    if (!unsolicited) return hasEvents ? this.bits.of(scope, waitingOf(iin)) : waitingOf(iin);
    this.bits.forget();
    return waitingOf(iin);
  }

  /** All events of these classes (bits) that the device had are here. */
  settle(scope: number, { iin }: Fragment): void {
    this.bits.complete(scope);
    // Whatever its bits count: as long as they are set there may be more.
    this.guard.settle(scope, waitingOf(iin ?? 0));
    if (!this.keptAmbiguous || this.guard.hasAmbiguous) return;
    this.keptAmbiguous = false;
    this.report({ type: 'keep', keep: this.guard.remembered() });
  }
}

/** IIN1.1 to IIN1.3: events of the classes 1 to 3 wait. */
const IIN_EVENTS = IIN_CLASS_EVENTS[1] | IIN_CLASS_EVENTS[2] | IIN_CLASS_EVENTS[3];
const waitingOf = (iin: number): number => (iin & IIN_EVENTS) >>> 1;
