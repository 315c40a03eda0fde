import type { Instant } from '../../../session/index.ts';
import type { SurveyedPoint } from '../../client.ts';
import { dataWords } from '../../mms/describe.ts';
import type { MmsClient } from '../../mms/client.ts';
import type { AccessResult } from '../../mms/wire/data.ts';
import { unitWords } from '../model/cdc.ts';
import { Discovery } from '../model/discovery.ts';
import { hasOrder, operablesOf, pointsOf, typeAt, type Model, type ModelPoint } from '../model/model.ts';
import { print, type Reference } from '../model/reference.ts';
import { bitWords } from '../quality.ts';
import { octetsOfType, variableOf } from './reads.ts';
import { partOf, rawOf, stampOf } from './values.ts';
import { stepsTo } from './wanted.ts';

/** What a device has, with the present value, the unit and the description of each point. */
export interface Surveyed {
  model: Model | null;
  found: SurveyedPoint[];
  problems: readonly string[];
}

const MOST_AT_ONCE = 50;
const MOST_OF_A_MESSAGE = 0.8;

/** Finds out the model of a device, then reads the present values of its points. */
export function survey(client: MmsClient, done: (surveyed: Surveyed, now: Instant) => void, now: Instant): void {
  new Discovery(client, (model, problems, at) => {
    if (model === null) done({ model, found: [], problems }, at);
    else readAll(client, model, problems, done, at);
  }).start(now);
}

function readAll(
  client: MmsClient,
  model: Model,
  problems: readonly string[],
  done: (surveyed: Surveyed, now: Instant) => void,
  now: Instant,
): void {
  const points = pointsOf(model);
  const wholes = new Map<string, Reference>();
  /** Whole data objects: what is in one comes with one question. */
  const note = (reference: Reference): void => {
    const whole = { ...reference, path: reference.path.slice(0, 1) };
    wholes.set(print(whole), whole);
  };
  for (const { value } of points) {
    note(value);
    for (const fc of ['CF', 'DC'] as const)
      if (typeAt(model, { ...value, path: value.path.slice(0, 1), fc }) !== null) note({ ...value, fc });
  }
  const size = (client.agreement?.size ?? 8000) * MOST_OF_A_MESSAGE;
  const results = new Map<string, AccessResult>();
  let open = 1;
  const settled = (at: Instant): void => {
    if (--open > 0) return;
    done({ model, found: foundIn(model, points, results), problems }, at);
  };
  let batch: Reference[] = [];
  let octets = 0;
  const send = (at: Instant): void => {
    const some = batch;
    [batch, octets] = [[], 0];
    askFor(some, at);
  };
  const askFor = (some: readonly Reference[], at: Instant): void => {
    if (some.length === 0) return;
    open++;
    client.ask(
      'read',
      { variables: { names: some.map(variableOf) } },
      (answer, later) => {
        if (answer.ok)
          some.forEach((reference, n) => {
            const value = answer.response.results[n];
            if (value !== undefined) results.set(print(reference), value);
          });
        else if (!answer.lost && some.length > 1) {
          // Longer than what was agreed on, perhaps.
          askFor(some.slice(0, some.length >> 1), later);
          askFor(some.slice(some.length >> 1), later);
        }
        settled(later);
      },
      at,
    );
  };
  for (const whole of wholes.values()) {
    const of = typeAt(model, whole);
    const own = of === null ? 0 : octetsOfType(of);
    if (batch.length >= MOST_AT_ONCE || octets + own > size) send(now);
    batch.push(whole);
    octets += own;
  }
  send(now);
  settled(now);
}

/** A part of what was read, by its reference. */
function partAt(model: Model, results: ReadonlyMap<string, AccessResult>, reference: Reference): AccessResult | null {
  const whole = { ...reference, path: reference.path.slice(0, 1) };
  const of = typeAt(model, whole);
  const steps = of && hasOrder(of) ? stepsTo(of, reference.path.slice(1)) : null;
  const value = results.get(print(whole));
  return steps && value ? partOf(value, steps) : null;
}

function foundIn(
  model: Model,
  points: readonly ModelPoint[],
  results: ReadonlyMap<string, AccessResult>,
): SurveyedPoint[] {
  const pointOf = ({ kind, value, quality, time }: ModelPoint): SurveyedPoint => {
    const data = partAt(model, results, value);
    const raw = data && data.type !== 'failure' ? rawOf(kind, data) : null;
    const bits = quality && partAt(model, results, quality);
    const stamp = time && stampOf(partAt(model, results, time));
    return {
      ...{ kind, address: print(value), form: data?.type ?? '', value: raw?.raw ?? null },
      ...(data === null ? {} : { words: dataWords(data) }),
      said: bits?.type === 'bits' ? bitWords(bits.bits) : data?.type === 'failure' ? dataWords(data) : '',
      time: stamp?.time ?? null,
      ...aboutOf(model, results, value),
    };
  };
  const seen = points.map(pointOf);
  const operated = operablesOf(model).map(({ kind, object }) => ({
    ...{ kind, address: print(object), form: 'Oper', value: null, said: '' },
    ...aboutOf(model, results, object),
  }));
  return [...seen, ...operated];
}

/** Its description and its unit, where the device has them beside it. */
function aboutOf(
  model: Model,
  results: ReadonlyMap<string, AccessResult>,
  value: Reference,
): { name?: string; unit?: string } {
  const [object] = value.path;
  const text = (fc: Reference['fc'], ...path: string[]): string => {
    const data = partAt(model, results, { ...value, fc, path: [object, ...path] });
    return data?.type === 'text' ? data.text.trim() : '';
  };
  const number = (...path: string[]): number | null => {
    const data = partAt(model, results, { ...value, fc: 'CF', path: [object, ...path] });
    return data?.type === 'integer' || data?.type === 'unsigned' ? Number(data.value) : null;
  };
  const unit = number('units', 'SIUnit');
  const name = text('DC', 'dU') || text('DC', 'd');
  return {
    ...(name === '' ? {} : { name }),
    ...(unit === null ? {} : { unit: unitWords(unit, number('units', 'multiplier') ?? 0) }),
  };
}
