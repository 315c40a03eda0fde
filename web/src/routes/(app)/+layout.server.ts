import { journalEntries } from '@halvix/db';
import { database } from '$lib/server/database.ts';
import { httpsEnds } from '$lib/server/certificates.ts';
import { frameOf } from '$lib/server/frame.ts';
import { readHops } from '$lib/server/live.ts';
import { model } from '$lib/server/model.ts';
import type { Hops } from '$lib/live/topics.ts';
import type { LayoutServerLoad } from './$types';

const NO_HOPS: Hops = { links: {}, devices: {}, outbounds: {}, engines: {} };

export const load: LayoutServerLoad = async ({ locals }) => ({
  person: {
    name: locals.person?.name ?? '',
    role: locals.person?.role ?? 'viewer',
    mustChange: locals.person?.mustChange ?? false,
  },
  frame: frameOf(await model()),
  // Whoever has to set a password first is told nothing before.
  hops: locals.person?.mustChange ? NO_HOPS : await readHops(),
  journal: locals.person?.mustChange ? [] : await journalEntries(database, 12),
  httpsEnds: httpsEnds(),
  now: Date.now(),
});
