import { applyDraft } from '@halvix/db';
import { json } from '@sveltejs/kit';
import { z } from 'zod';
import { bodyOf } from '$lib/server/body.ts';
import { database } from '$lib/server/database.ts';
import { forgetModel } from '$lib/server/model.ts';
import { noteApplied } from '$lib/server/security.ts';
import type { RequestHandler } from './$types';

const bodySchema = z.object({
  /** The draft as it was seen. */
  version: z.number().int().min(0),
  note: z.string().trim().max(400, 'at most 400 characters').default(''),
});

/** Applies the draft: it becomes the newest revision, and the engines take it over. */
export const POST: RequestHandler = async (event) => {
  const { request, locals } = event;
  const { version, note } = await bodyOf(request, bodySchema);
  const outcome = await applyDraft(database, version, locals.person?.name ?? '', note);
  if (outcome.ok) {
    forgetModel();
    const { revision } = outcome;
    await noteApplied(event, revision, `applied revision ${revision}${note === '' ? '' : `: ${note}`}`);
    return json({ revision: outcome.revision });
  }
  if (outcome.reason === 'changed')
    return json({ message: 'The draft changed since you looked at it: look again, then apply.' }, { status: 409 });
  const [first] = outcome.problems;
  return json(
    {
      message: `${outcome.problems.length} problems keep it from being applied. The first: ${first.where}: ${first.words}`,
    },
    { status: 422 },
  );
};
