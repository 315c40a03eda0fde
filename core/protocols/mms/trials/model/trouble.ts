import type { Client } from '../../../client.ts';
import type { Server } from '../../../server.ts';
import type { Ends } from '../ends.ts';
import { OddServer, type Quirks } from './odd.ts';

/** What is to be seen of our client before a foreign server. */
export interface Expected {
  /** A change is heard of by then, milliseconds. */
  withinMs: number;
  /** Whether each change of the watched point comes once, as an event. */
  events: boolean;
  /** Controls cannot be had. */
  cannotOperate: boolean;
}

interface Course extends Partial<Expected> {
  /** Points that cannot be had, by their numbers. */
  gone: readonly number[];
  /** Points that have no values. */
  ignored: readonly number[];
  /** Its values become the n-th ones. */
  change: (n: number) => void;
  /** Those, by the numbers of the points. */
  values: (n: number) => Record<number, number>;
  watched: number;
  control: () => void;
}

const BEGIN_MS = 30_000;
const CHANGES = 5;
const CONTROL_MS = 15_000;
const CALM_S = 120;
/** Requests in those seconds: some for each point that is polled, and whether it is there. */
const MOST_REQUESTS = 400;

/** Some minutes of our client before a server with such quirks. Says what went wrong. */
export function trouble<
  Place extends object,
  Target extends object,
  Order,
  C extends Client<Place, Order, Uint8Array>,
  S extends Server<Target>,
>(pair: Ends<Place, Target, Order, C, S>, quirks: Quirks, course: Course): string[] {
  const { withinMs = 2000, events = true, cannotOperate = false, gone, ignored, values, watched } = course;
  const problems: string[] = [];
  const odd = new OddServer(quirks);
  pair.between = odd;
  let n = 0;
  const change = (): void => course.change(++n);
  /** As the engine does, a connection that is lost is made again. */
  const run = (ms: number): void => {
    for (let left = ms; left > 0; left -= 500) {
      if (!pair.isUp) pair.start();
      pair.run(Math.min(500, left));
    }
  };
  const look = (when: string): void => {
    for (const [id, right] of Object.entries(values(n))) {
      const has = pair.last(Number(id))?.raw;
      if (!gone.includes(Number(id)) && has !== right) problems.push(`${when} point ${id} is ${has}, not ${right}`);
    }
  };
  change();
  run(BEGIN_MS);
  look('at the beginning');
  for (let of = 1; of <= CHANGES; of++) {
    change();
    run(withinMs);
    look(`after change ${of}`);
  }
  if (events) {
    const seen = pair.readings(watched).filter(({ event }) => event);
    for (let of = 2; of <= n; of++) {
      const times = seen.filter(({ raw }) => raw === values(of)[watched]).length;
      if (times !== 1) problems.push(`change ${of} came ${times} times as an event`);
    }
  }
  const unreadable = pair.news.flatMap((one) => (one.type === 'unreadable' ? [one.points] : [])).at(-1) ?? [];
  const told = [...unreadable].filter((id) => !ignored.includes(id)).sort((a, b) => a - b);
  if (told.join() !== [...gone].join()) problems.push(`unreadable are ${told.join(', ') || 'none'}`);

  course.control();
  run(CONTROL_MS);
  const operated = pair.told.filter((one) => one.type === 'control' && one.phase !== 'select').length;
  const steps = pair.steps();
  if (operated !== (cannotOperate ? 0 : 1)) problems.push(`operated ${operated} times: ${steps.join('; ')}`);
  const right = cannotOperate ? /^(refused|failed)/.test(steps.at(-1) ?? '') : steps.at(-1) === 'operated';
  if (!right) problems.push(`the control: ${steps.join('; ')}`);

  const requests = (): number => [...odd.counts.values()].reduce((sum, one) => sum + one, 0);
  const before = requests();
  run(CALM_S * 1000);
  if (requests() - before > MOST_REQUESTS) problems.push(`${requests() - before} requests in ${CALM_S} s`);
  look('at the end');
  return problems;
}
