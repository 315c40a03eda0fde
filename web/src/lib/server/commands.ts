import type { Command } from '@halvix/db';
import type { CommandView } from '../live/topics.ts';

/** A command as browsers see it. */
export function commandView(row: Command): CommandView {
  const { engine: _engine, outbound: _outbound, claimed: _claimed, ...view } = row;
  return view;
}
