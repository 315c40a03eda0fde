import { upgradedObject, type ObjectKind } from '@halvix/core/config';

/** One step that can be undone. */
export interface Step {
  label: string;
  /** Objects as they were and as they became; null: they were not there. */
  objects: { id: number; kind: ObjectKind; parent: string; before: unknown; after: unknown }[];
}

export interface Steps {
  done: readonly Step[];
  undone: readonly Step[];
  /** Versions that our own writes made, by object. */
  own: ReadonlyMap<number, number>;
}

type Shelf = Pick<Storage, 'getItem' | 'setItem' | 'removeItem'>;
const KEY = 'halvix undo';
/** Larger steps are not kept over a reload, nor those that they stand in front of. */
const MAX_OBJECTS = 2000;
const MAX_LETTERS = 2_000_000;

/** The newest steps that fit: one can be undone only when all later ones can. */
function newest(steps: readonly Step[], room: number): Step[] {
  const kept: Step[] = [];
  let left = room;
  for (const step of [...steps].reverse()) {
    if (step.objects.length > MAX_OBJECTS) break;
    left -= JSON.stringify(step).length;
    if (left < 0) break;
    kept.unshift(step);
  }
  return kept;
}

/** Keeps what can be undone for this tab, so that a reload does not end it. */
export function keepSteps(shelf: Shelf, person: string, { done, undone, own }: Steps): void {
  const kept = { done: newest(done, MAX_LETTERS / 2), undone: newest(undone, MAX_LETTERS / 2) };
  const ids = new Set([...kept.done, ...kept.undone].flatMap(({ objects }) => objects.map(({ id }) => id)));
  try {
    shelf.setItem(KEY, JSON.stringify({ person, ...kept, own: [...own].filter(([id]) => ids.has(id)) }));
  } catch {
    // No room, or none given: it lasts until the reload then.
    shelf.removeItem(KEY);
  }
}

/** What the same person could undo before; null: nothing. */
export function keptSteps(shelf: Shelf, person: string): Steps | null {
  try {
    const kept = JSON.parse(shelf.getItem(KEY) ?? 'null') as
      (Omit<Steps, 'own'> & { person: string; own: [number, number][] }) | null;
    if (kept?.person !== person) return null;
    return { done: kept.done.map(upgraded), undone: kept.undone.map(upgraded), own: new Map(kept.own) };
  } catch {
    return null;
  }
}

/** A step that an earlier version kept. */
const upgraded = ({ label, objects }: Step): Step => ({
  label,
  objects: objects.map(({ before, after, ...object }) => ({
    ...object,
    before: upgradedObject(object.kind, before),
    after: upgradedObject(object.kind, after),
  })),
});
