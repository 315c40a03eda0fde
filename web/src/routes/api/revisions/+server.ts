import { applyOverDraft, revisionById } from '@halvix/db';
import { error, json } from '@sveltejs/kit';
import { z } from 'zod';
import { bodyOf } from '$lib/server/body.ts';
import { database } from '$lib/server/database.ts';
import { forgetModel } from '$lib/server/model.ts';
import { keeping } from '$lib/server/secrets.ts';
import { noteApplied } from '$lib/server/security.ts';
import type { RequestHandler } from './$types';

const bodySchema = z.object({
  revision: z.number().int().positive(),
  /** The draft as it was seen: what is in it goes. */
  version: z.number().int().min(0),
});

/** Applies an older revision again, as a new one. The draft becomes the same. */
export const POST: RequestHandler = async (event) => {
  const { request, locals } = event;
  const { revision, version } = await bodyOf(request, bodySchema);
  const old = await revisionById(database, revision);
  if (old === null) error(404, `revision: there is no revision ${revision}`);
  const words = `revision ${revision} again`;
  const author = locals.person?.name ?? '';
  const id = await keeping(() => applyOverDraft(database, version, old.configuration, author, words));
  if (id === null) error(409, 'The draft changed since you looked at it: look again, then apply.');
  forgetModel();
  await noteApplied(event, id, `applied revision ${revision} again, as revision ${id}`);
  return json({ revision: id });
};
