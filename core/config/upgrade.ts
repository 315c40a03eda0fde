import { FIRST_PROTOCOL } from '../protocols/definitions.ts';
import { addressWords, POINT_KINDS, type PointKind } from '../point/index.ts';
import type { ObjectKind } from './objects.ts';

/*
 * Documents of earlier versions, as today's.
 *
 * Version 1 said where a point is by its kind and index, in the point itself and wherever one was named. Since version 2
 * a point's place in its protocol is `at`, with what else only that protocol says of it, and others name it by its
 * address as text.
 *
 * Nothing is checked here: what does not have the shape of its time stays as it is, and the schema says what is wrong
 * with it.
 */

type Plain = Record<string, unknown>;
const isPlain = (value: unknown): value is Plain =>
  typeof value === 'object' && value !== null && !Array.isArray(value);
const isKind = (value: unknown): value is PointKind => POINT_KINDS.includes(value as PointKind);

/** `{ kind: 'analog', index: 7 }` → `AI 7`; undefined when it is no such thing. */
const referenceOf = (value: unknown): string | undefined =>
  isPlain(value) && isKind(value.kind) && typeof value.index === 'number'
    ? addressWords(value.kind, value.index)
    : undefined;

function upgradedPoint(point: Plain): Plain {
  const { index, eventClass, ...rest } = point;
  const at: Plain = { protocol: FIRST_PROTOCOL, index, ...(eventClass === undefined ? {} : { eventClass }) };
  const next: Plain = { ...rest, at };
  if (isPlain(rest.setting)) {
    const { sentAs, ...setting } = rest.setting;
    if (sentAs !== undefined) at.sentAs = sentAs;
    next.setting = { ...setting, feedback: referenceOf(setting.feedback) ?? setting.feedback };
  }
  if (isPlain(rest.control) && isPlain(rest.control.feedback)) {
    const { kind: _kind, index: _index, ...feedback } = rest.control.feedback;
    next.control = { ...rest.control, feedback: { ...feedback, point: referenceOf(rest.control.feedback) } };
  }
  if (isPlain(rest.history) && rest.history.mode === 'trigger')
    next.history = { mode: 'trigger', point: referenceOf(rest.history) };
  return next;
}

function upgradedMapping({ kind, index, target, ...rest }: Plain): Plain {
  const point = referenceOf({ kind, index });
  if (!isPlain(target)) return { ...rest, point, target };
  const { index: there, eventClass, staticVariation, eventVariation, ...others } = target;
  const at = { protocol: FIRST_PROTOCOL, index: there, eventClass, staticVariation, eventVariation };
  return { ...rest, point, target: { ...others, at } };
}

/** A piece of a configuration as today's. */
export function upgradedObject(kind: ObjectKind, document: unknown): unknown {
  if (!isPlain(document) || !('index' in document)) return document;
  if (kind === 'point') return upgradedPoint(document);
  return kind === 'mapping' ? upgradedMapping(document) : document;
}

const ofEach = (items: unknown, list: string, kind: ObjectKind): unknown =>
  Array.isArray(items)
    ? items.map((item: unknown) =>
        isPlain(item) && Array.isArray(item[list])
          ? { ...item, [list]: item[list].map((one: unknown) => upgradedObject(kind, one)) }
          : item,
      )
    : items;

/** A whole configuration as today's. */
export function upgradedConfiguration(document: unknown): unknown {
  if (!isPlain(document) || document.schema !== 'halvix.configuration' || document.version !== 1) return document;
  return {
    ...document,
    version: 2,
    devices: ofEach(document.devices, 'points', 'point'),
    outbounds: ofEach(document.outbounds, 'mappings', 'mapping'),
  };
}

/** A device profile as today's. */
export function upgradedProfile(document: unknown): unknown {
  if (!isPlain(document) || document.schema !== 'halvix.profile' || document.version !== 1) return document;
  const { points } = document;
  return {
    ...document,
    version: 2,
    points: Array.isArray(points) ? points.map((one: unknown) => upgradedObject('point', one)) : points,
  };
}
