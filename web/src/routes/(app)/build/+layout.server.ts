import {
  draftCounts,
  draftObjects,
  draftVersion,
  ensureDraft,
  newestRevisionId,
  touchedSinceRevision,
} from '@halvix/db';
import { database } from '$lib/server/database.ts';
import type { LayoutServerLoad } from './$types';

export const load: LayoutServerLoad = async ({ depends }) => {
  depends('halvix:draft');
  await ensureDraft(database, Date.now());
  return {
    draft: {
      version: await draftVersion(database),
      objects: await draftObjects(database, {
        kinds: ['network', 'station', 'link', 'radio', 'device', 'outbound'],
      }),
      counts: await draftCounts(database),
      touched: await touchedSinceRevision(database),
      revision: await newestRevisionId(database),
    },
  };
};
