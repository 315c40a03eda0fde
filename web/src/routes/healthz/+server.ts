import { ENGINE_STALE_MS } from '@halvix/core/path';
import { hasAccounts } from '@halvix/db';
import { json } from '@sveltejs/kit';
import { database } from '$lib/server/database.ts';
import { readHops } from '$lib/server/live.ts';
import type { RequestHandler } from './$types';

/** 200 once the database answers and an engine runs; 503 with what is missing otherwise. */
export const GET: RequestHandler = async () => {
  try {
    const hops = await readHops();
    const engines = Object.values(hops.engines).filter(({ updated }) => Date.now() - updated < ENGINE_STALE_MS).length;
    const accounts = await hasAccounts(database);
    return json({ ok: engines > 0, database: true, engines, accounts }, { status: engines > 0 ? 200 : 503 });
  } catch {
    return json({ ok: false, database: false, engines: 0 }, { status: 503 });
  }
};
