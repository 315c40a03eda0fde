import type { TwoEnds } from '../ends.ts';
import type { ClientSettings } from './settings.ts';

/** What client and server have to agree on. */
export const clientEnds = ({ unitId, responseTimeoutMs }: ClientSettings): TwoEnds[] => [
  {
    what: 'Protocol and role',
    ours: 'Modbus client, asks',
    theirs: 'Modbus server, answers',
    problem: null,
  },
  {
    what: 'Unit identifier',
    ours: `asks unit ${unitId}`,
    theirs: String(unitId),
    problem: unitId === 0 ? 'on a line 0 means all units, and none of them answers' : null,
  },
  {
    what: 'Answer',
    ours: `waited for ${responseTimeoutMs} ms`,
    theirs: `within ${responseTimeoutMs} ms`,
    problem: null,
  },
];
