import { stateAfter, type Operation } from '../../point/index.ts';
import { addressOf, pointsOf } from '../../protocols/index.ts';
import type { PointConfig } from './document.ts';

/**
 * The point that shows that a control has happened, and what each operation makes of it: the one that the list says, or
 * the output itself where it shows by itself what it was set to. Null: nothing shows it.
 */
export function feedbackOf(point: PointConfig): { point: string; expect: Partial<Record<Operation, number>> } | null {
  const { control, at } = point;
  if (control === null) return null;
  if (control.feedback !== null) return control.feedback;
  if (!pointsOf(at.protocol).outputShows) return null;
  const expect: Partial<Record<Operation, number>> = {};
  for (const operation of control.operations) {
    const state = stateAfter(operation);
    if (state !== null) expect[operation] = state;
  }
  return { point: addressOf(point), expect };
}
