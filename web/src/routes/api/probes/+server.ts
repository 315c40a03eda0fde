import { probeRequestSchema } from '@halvix/core/path';
import { orderProbe } from '@halvix/db';
import { json } from '@sveltejs/kit';
import { z } from 'zod';
import { bodyOf } from '$lib/server/body.ts';
import { database } from '$lib/server/database.ts';
import { ask } from '$lib/server/live.ts';
import type { RequestHandler } from './$types';

const bodySchema = z.object({ id: z.uuid(), request: probeRequestSchema });

/** Asks the engine to try a device or to survey it; how it goes comes with the live stream. */
export const POST: RequestHandler = async ({ request, locals }) => {
  const { id, request: wanted } = await bodyOf(request, bodySchema);
  await orderProbe(database, id, wanted, locals.person?.name ?? '', Date.now());
  return json({ id }, { status: 201 });
};

const cancelSchema = z.object({ id: z.uuid() });

export const DELETE: RequestHandler = async ({ request }) => {
  const { id } = await bodyOf(request, cancelSchema);
  await ask({ type: 'cancelProbe', id });
  return json({ id });
};
