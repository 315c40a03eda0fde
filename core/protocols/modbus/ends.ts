import type { TwoEnds } from '../ends.ts';
import type { ClientSettings, ServerSettings } from './settings.ts';

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

/** What our server and its clients have to agree on. */
export const serverEnds = ({ unitId, maxClients, fillsGaps }: ServerSettings): TwoEnds[] =>
  (
    [
      ['Unit identifier', String(unitId), `asks unit ${unitId}`],
      ['Functions', '01 to 06, 08, 15, 16, 22, 23, 43/14', 'any of them'],
      ['Addresses', 'count from 0', 'count from 0: HR 0 is reference number 400001'],
      ['Clients', `at most ${maxClients} at once`, 'one connection each'],
      [
        'Gaps',
        fillsGaps ? 'read as 0' : 'are refused',
        fillsGaps ? 'may read across them' : 'reads mapped addresses only',
      ],
    ] as const
  ).map(([what, ours, theirs]) => ({ what, ours, theirs, problem: null }));
