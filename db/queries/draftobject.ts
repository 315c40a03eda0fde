import type { ObjectKind } from '@halvix/core/config';

/** An object of the draft; without a document it was deleted. */
export interface DraftObject {
  id: number;
  kind: ObjectKind;
  parent: string;
  document: unknown;
  version: number;
  author: string;
  changed: number;
}

export interface DraftChange {
  /** Null: a new object. */
  id: number | null;
  kind: ObjectKind;
  parent: string;
  /** The version that the author saw; another one in the table means that somebody was faster. Null for a new one. */
  expected: number | null;
  /** Null deletes. */
  document: unknown;
}

export interface DraftConflict {
  id: number;
  kind: ObjectKind;
  parent: string;
  /** The version that stands there now: who has seen it may write over it. Null: there is no such object. */
  version: number | null;
  author: string;
  changed: number;
  document: unknown;
}

export interface ChangedObject extends DraftObject {
  before: unknown;
  /** Changed along with another one: a mapping whose point moved, the points of a deleted device. */
  along: boolean;
}

/** An object as it is to be written; null: a new one. */
export interface Written {
  id: number | null;
  kind: ObjectKind;
  parent: string;
  document: unknown;
}
