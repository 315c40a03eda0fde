import { journalEntries } from '@halvix/db';
import { database } from '$lib/server/database.ts';
import { frameOf } from '$lib/server/frame.ts';
import { readHops } from '$lib/server/live.ts';
import { model } from '$lib/server/model.ts';
import type { LayoutServerLoad } from './$types';

export const load: LayoutServerLoad = async ({ locals }) => ({
  person: { name: locals.person?.name ?? '', role: locals.person?.role ?? 'viewer' },
  frame: frameOf(await model()),
  hops: await readHops(),
  journal: await journalEntries(database, 12),
  now: Date.now(),
});
