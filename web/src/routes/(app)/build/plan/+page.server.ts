import { addressPlan } from '@halvix/core/plan';
import { loadDraft } from '@halvix/db';
import { database } from '$lib/server/database.ts';
import type { PageServerLoad } from './$types';

export const load: PageServerLoad = async ({ depends }) => {
  depends('halvix:draft');
  const { configuration } = await loadDraft(database);
  const bare = {
    ...configuration,
    devices: configuration.devices.map((device) => ({ ...device, points: [] })),
    outbounds: configuration.outbounds.map((outbound) => ({ ...outbound, mappings: [] })),
  };
  const rows = addressPlan(bare).map((row) => ({
    ...row,
    problems: row.problems.filter(({ words }) => words !== 'its point list is empty'),
  }));
  return { rows, configuration: bare };
};
