import { securityEntries, securityKept } from '@halvix/db';
import { database } from '$lib/server/database.ts';
import type { PageServerLoad } from './$types';

const LINES = 500;

export const load: PageServerLoad = async ({ url }) => {
  const before = url.searchParams.get('before') ?? '';
  const entries = await securityEntries(database, LINES, /^\d{1,15}$/.test(before) ? Number(before) : null);
  return {
    entries,
    kept: await securityKept(database),
    older: entries.length === LINES ? entries[entries.length - 1].id : null,
  };
};
