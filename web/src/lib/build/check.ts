import { checkingPoints, type DeviceObject, type PointProblem } from '@halvix/core/config';
import type { PointRow, Problems } from './grid/grid.ts';

/**
 * What is wrong in lists of any length, by the id of the row, the worst first. With pauses in which the page lives on;
 * null when somebody else has begun meanwhile.
 */
export async function problemsOf(
  rows: readonly PointRow[],
  devices: ReadonlyMap<string, DeviceObject>,
  superseded: () => boolean,
): Promise<Problems | null> {
  const byDevice = new Map<string, PointRow[]>();
  for (const row of rows) {
    const group = byDevice.get(row.parent);
    if (group) group.push(row);
    else byDevice.set(row.parent, [row]);
  }
  const found = new Map<number, PointProblem[]>();
  for (const [code, group] of byDevice) {
    const checking = checkingPoints(
      group.map(({ document }) => document),
      devices.get(code) ?? null,
    );
    let step = checking.next();
    while (!step.done) {
      await new Promise((resolve) => setTimeout(resolve));
      if (superseded()) return null;
      step = checking.next();
    }
    for (const problem of step.value) {
      const { id } = group[problem.row];
      const own = found.get(id);
      if (own === undefined) found.set(id, [problem]);
      else if (problem.severity === 'problem') own.unshift(problem);
      else own.push(problem);
    }
  }
  return found;
}
