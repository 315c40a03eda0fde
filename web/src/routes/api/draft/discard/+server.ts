import { discardDraft, draftVersion } from '@halvix/db';
import { error, json } from '@sveltejs/kit';
import { z } from 'zod';
import { bodyOf } from '$lib/server/body.ts';
import { database } from '$lib/server/database.ts';
import type { RequestHandler } from './$types';

/** The draft as it was seen: what somebody else changed since is not thrown away unseen. */
const bodySchema = z.object({ version: z.number().int().min(0) });

/** Makes the draft equal to what runs. */
export const POST: RequestHandler = async ({ request, locals }) => {
  const { version } = await bodyOf(request, bodySchema);
  const outcome = await discardDraft(database, version, locals.person?.name ?? '', Date.now());
  if (outcome === 'changed') error(409, 'The draft changed since you looked at it: look again.');
  if (outcome === 'nothing runs') error(409, 'Nothing runs yet that the draft could become again.');
  return json({ version: await draftVersion(database) });
};
