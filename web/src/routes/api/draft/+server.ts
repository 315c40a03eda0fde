import { OBJECT_KINDS, OBJECT_SCHEMAS } from '@halvix/core/config';
import { changeDraft, draftObjects, draftVersion } from '@halvix/db';
import { firstProblem } from '@halvix/core/words';
import { error, json } from '@sveltejs/kit';
import { z } from 'zod';
import { bodyOf } from '$lib/server/body.ts';
import { database } from '$lib/server/database.ts';
import { keeping } from '$lib/server/secrets.ts';
import type { RequestHandler } from './$types';

const MAX_CHANGES = 100_000;
const bodySchema = z.object({
  changes: z
    .array(
      z.object({
        id: z.number().int().positive().nullable(),
        kind: z.enum(OBJECT_KINDS),
        parent: z.string().max(24),
        expected: z.number().int().nullable(),
        document: z.unknown(),
      }),
    )
    .min(1)
    .max(MAX_CHANGES, `at most ${MAX_CHANGES} changes at once`),
});

/** What changed since a version, deleted objects (without a document) among them. */
export const GET: RequestHandler = async ({ url }) => {
  const after = Number(url.searchParams.get('after'));
  if (!Number.isSafeInteger(after) || after < 0) error(400, 'after: is not a version');
  const version = await draftVersion(database);
  return json({ version, objects: version > after ? await draftObjects(database, { after }) : [] });
};

/** Changes the draft: all of it, or nothing when somebody was faster (409). */
export const POST: RequestHandler = async ({ request, locals }) => {
  const { changes } = await bodyOf(request, bodySchema);
  const checked = changes.map(({ id, kind, parent, expected, document }, at) => {
    if (document === null || document === undefined) {
      if (id === null) error(400, `changes.${at}: nothing to delete`);
      return { id, kind, parent, expected, document: null };
    }
    const parsed = OBJECT_SCHEMAS[kind].safeParse(document);
    if (!parsed.success) error(400, `${kind}, ${firstProblem(parsed.error)}`);
    return { id, kind, parent, expected, document: parsed.data };
  });
  const author = locals.person?.name ?? '';
  const outcome = await keeping(() => changeDraft(database, checked, author, Date.now()));
  if (!outcome.ok) return json({ conflicts: outcome.conflicts }, { status: 409 });
  return json({
    version: outcome.version,
    changed: outcome.changed.map(({ id, kind, parent, along, before, document }, at) => {
      if (along) return { id, kind, parent, along, before, document };
      // What was stored is not what was sent where a secret was put away.
      return { id, kind, parent, along, ...(document === checked[at].document ? {} : { document }) };
    }),
  });
};
