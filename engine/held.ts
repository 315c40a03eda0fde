import type { ClosedSecret } from '@halvix/db';

/** Why nobody may speak with a device or a centre over its link; null: somebody may. */
export type Held = (kind: 'device' | 'outbound', code: string, link: string) => string | null;

/** Whoever needs a secret that cannot be had is left alone: without it the other side would only be asked in vain. */
export function heldBy(closed: readonly ClosedSecret[]): Held {
  const words = new Map(closed.map((one) => [`${one.kind} ${one.code}`, one.words]));
  return (kind, code, link) => words.get(`${kind} ${code}`) ?? words.get(`link ${link}`) ?? null;
}
