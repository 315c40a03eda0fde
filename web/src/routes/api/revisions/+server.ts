import { applyConfiguration, revisionById } from '@halvix/db';
import { error, json } from '@sveltejs/kit';
import { z } from 'zod';
import { bodyOf } from '$lib/server/body.ts';
import { database } from '$lib/server/database.ts';
import { forgetModel } from '$lib/server/model.ts';
import type { RequestHandler } from './$types';

const bodySchema = z.object({ revision: z.number().int().positive() });

/** Applies an older revision again, as a new one. The draft becomes the same. */
export const POST: RequestHandler = async ({ request, locals }) => {
  const { revision } = await bodyOf(request, bodySchema);
  const old = await revisionById(database, revision);
  if (old === null) error(404, `revision: there is no revision ${revision}`);
  const id = await applyConfiguration(
    database,
    old.configuration,
    locals.person?.name ?? '',
    `revision ${revision} again`,
  );
  forgetModel();
  return json({ revision: id });
};
