import { type ProtocolCode, deviceOf } from '@halvix/core/protocols';
import type { Role } from '@halvix/db';

/** Who may do what: the one place. A route or a method that is not listed is refused to everybody. */
type Rule = Role | 'anybody';

const RANK: Record<Role, number> = { viewer: 1, operator: 2, engineer: 3 };

export const ACCESS: Record<string, Partial<Record<string, Rule>>> = {
  '/': { GET: 'viewer' },
  '/healthz': { GET: 'anybody' },
  '/sign-in': { GET: 'anybody', POST: 'anybody' },
  '/setup': { GET: 'anybody', POST: 'anybody' },
  '/sign-out': { POST: 'viewer' },
  '/(app)/run': { GET: 'viewer' },
  '/(app)/run/device/[code]': { GET: 'viewer' },
  '/(app)/run/device/[code]/files': { GET: 'viewer' },
  '/(app)/run/device/[code]/model': { GET: 'engineer' },
  '/(app)/run/device/[code]/ask': { GET: 'engineer' },
  '/(app)/run/device/[code]/session': { GET: 'viewer' },
  '/(app)/run/point/[id]': { GET: 'viewer' },
  '/(app)/run/history/[id]': { GET: 'viewer' },
  '/(app)/run/outbound/[code]': { GET: 'viewer' },
  '/(app)/run/link/[code]': { GET: 'viewer' },
  '/(app)/build': { GET: 'viewer' },
  '/(app)/prove': { GET: 'viewer' },
  '/(app)/prove/bench': { GET: 'viewer' },
  '/(app)/upkeep': { GET: 'viewer', POST: 'viewer' },
  '/(app)/upkeep/accounts': { GET: 'engineer', POST: 'engineer' },
  '/(app)/upkeep/security': { GET: 'engineer' },
  '/(app)/upkeep/history': { GET: 'viewer', POST: 'engineer' },
  '/api/bench/[...path]': { GET: 'viewer', PUT: 'operator', POST: 'operator', DELETE: 'operator' },
  '/api/live': { GET: 'viewer' },
  '/api/search': { GET: 'viewer' },
  '/api/history/[id]': { GET: 'viewer' },
  '/api/sent/[code]': { GET: 'viewer' },
  '/api/sent/[code]/[packet]': { GET: 'viewer' },
  '/api/files': { POST: 'operator' },
  '/api/files/[id]': { GET: 'viewer' },
  '/api/commands': { POST: 'operator' },
  '/api/commands/[id]': { GET: 'viewer' },
  '/api/requests': { POST: 'operator' },
  '/(app)/build/device/[code]': { GET: 'viewer' },
  '/(app)/build/outbound/[code]': { GET: 'viewer' },
  '/(app)/build/points': { GET: 'viewer' },
  '/(app)/build/mapping': { GET: 'viewer' },
  '/(app)/build/mapping/sheet': { GET: 'viewer' },
  '/(app)/build/outbound/[code]/agreement': { GET: 'viewer' },
  '/(app)/build/take': { GET: 'viewer' },
  '/(app)/build/plan': { GET: 'viewer' },
  '/(app)/build/profiles': { GET: 'viewer' },
  '/(app)/build/changes': { GET: 'viewer' },
  '/(app)/build/device/[code]/sheet': { GET: 'viewer' },
  '/api/agreement/[code]': { GET: 'viewer', POST: 'viewer' },
  '/api/unlisted': { POST: 'engineer' },
  '/api/draft': { GET: 'viewer', POST: 'engineer' },
  '/api/draft/discard': { POST: 'engineer' },
  '/api/draft/rows': { GET: 'viewer' },
  '/api/apply': { POST: 'engineer' },
  '/api/revisions': { POST: 'engineer' },
  '/api/configuration': { GET: 'viewer', POST: 'engineer' },
  '/api/probes': { POST: 'engineer', DELETE: 'engineer' },
  '/api/profiles': { GET: 'viewer', POST: 'engineer', DELETE: 'engineer' },
};

/** Orders that change how a device works, rather than ask it for something, are for engineers. */
export const mayOrder = (role: Role, protocol: ProtocolCode, order: unknown): boolean =>
  RANK[role] >= RANK[deviceOf(protocol).orders.changes(order) ? 'engineer' : 'operator'];

export function mayDo(role: Role | null, routeId: string, method: string): 'yes' | 'sign in' | 'no' {
  const rule = ACCESS[routeId]?.[method === 'HEAD' ? 'GET' : method];
  if (rule === undefined) return 'no';
  if (rule === 'anybody') return 'yes';
  if (role === null) return 'sign in';
  return RANK[role] >= RANK[rule] ? 'yes' : 'no';
}
