import { draftPointSchema, OBJECT_SCHEMAS, type ObjectKind } from './document/objects.ts';
import { sameDocument } from './comparison/same.ts';
import { mappingTargetSchema } from './document/document.ts';
import { FIRST_PROTOCOL, type ProtocolCode, pointsOf } from '../protocols/index.ts';

/**
 * Points and mappings come in tens of thousands, nearly all fields of them at their default: what is at its default is
 * left out where they are stored and sent.
 */
const { at: _at, ...POINT_DEFAULTS } = defaultsOf(
  draftPointSchema.parse({ kind: 'binary', name: '-', at: pointsOf(FIRST_PROTOCOL).blank('binary') }),
  ['kind', 'name'],
);
const atDefaults = (at: object): Readonly<Record<string, unknown>> =>
  pointsOf((at as { protocol: ProtocolCode }).protocol).defaults;
const { deadband, mayControl, value } = mappingTargetSchema.shape;
const TARGET_DEFAULTS: Record<string, unknown> = Object.fromEntries(
  Object.entries({ deadband, mayControl, value }).map(([key, schema]) => [key, schema.parse(undefined)]),
);

function defaultsOf(document: object, needed: readonly string[]): Record<string, unknown> {
  return Object.fromEntries(Object.entries(document).filter(([key]) => !needed.includes(key)));
}

function without(document: object, defaults: Readonly<Record<string, unknown>>): object {
  return Object.fromEntries(
    Object.entries(document).filter(([key, value]) => !(key in defaults) || !sameDocument(value, defaults[key])),
  );
}

/** The document without what is at its default. */
export function compacted(kind: ObjectKind, document: unknown): unknown {
  if (document === null) return null;
  if (kind === 'point') {
    const { at, ...rest } = document as { at: object };
    return { ...without(rest, POINT_DEFAULTS), at: without(at, atDefaults(at)) };
  }
  if (kind === 'mapping') {
    const { target, ...rest } = document as { target: object };
    return { ...rest, target: without(target, TARGET_DEFAULTS) };
  }
  return document;
}

/**
 * The whole document again. One that an earlier version stored has what has come since at its default, and lacks what
 * has gone, as a revision of that time has when it is read.
 */
export function expanded(kind: ObjectKind, document: unknown): unknown {
  if (document === null) return null;
  if (kind === 'point') {
    const { at, ...rest } = document as { at: object };
    return { ...POINT_DEFAULTS, ...rest, at: { ...atDefaults(at), ...at } };
  }
  if (kind === 'mapping') {
    const { target, ...rest } = document as { target: object };
    return { ...rest, target: { ...TARGET_DEFAULTS, ...target } };
  }
  const read = OBJECT_SCHEMAS[kind].safeParse(document);
  // What cannot be read is shown as it is: the check says what is wrong with it.
  return read.success ? read.data : document;
}
