import { sentPackets } from '@halvix/db';
import { error, json } from '@sveltejs/kit';
import { z } from 'zod';
import { database } from '$lib/server/database.ts';
import type { RequestHandler } from './$types';

const query = z.object({
  before: z.coerce.number({ error: 'must be the number of a packet' }).int().min(0).optional(),
  limit: z.coerce.number().int().min(1).max(200).default(50),
});

/** Packets that went to a destination, the newest first. */
export const GET: RequestHandler = async ({ params, url }) => {
  const asked = query.safeParse(Object.fromEntries(url.searchParams));
  if (!asked.success) {
    const [{ path, message }] = asked.error.issues;
    error(400, `${path.join('.')}: ${message}`);
  }
  const { before = null, limit } = asked.data;
  return json({ packets: await sentPackets(database, params.code, { before, limit }) });
};
