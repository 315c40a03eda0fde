import { diffConfigurations, readImported } from '@halvix/core/config';
import { loadDraft, revisionById, takeIntoDraft } from '@halvix/db';
import { error, json } from '@sveltejs/kit';
import { z } from 'zod';
import { bodyOf } from '$lib/server/body.ts';
import { database } from '$lib/server/database.ts';
import { keeping } from '$lib/server/secrets.ts';
import { noteWho } from '$lib/server/security.ts';
import type { RequestHandler } from './$types';

/** The whole configuration as a document to keep: the draft, or a revision. */
export const GET: RequestHandler = async (event) => {
  const asked = event.url.searchParams.get('revision');
  const revision = asked === null ? null : await revisionById(database, Number(asked) || 0);
  if (asked !== null && revision === null) error(404, `revision: there is no revision ${asked}`);
  const document = revision?.configuration ?? (await loadDraft(database)).configuration;
  const name = revision === null ? 'draft' : `revision-${revision.id}`;
  await noteWho(event, 'export', `the configuration, ${name}`);
  return new Response(`${JSON.stringify(document, null, 2)}\n`, {
    headers: {
      'content-type': 'application/json',
      'content-disposition': `attachment; filename="halvix-${name}.json"`,
    },
  });
};

const bodySchema = z.object({
  document: z.unknown(),
  /** Take it over in place of the draft as it was seen at this version; without it: tell what it would change. */
  over: z.number().int().min(0).optional(),
});
const MAX_TOLD = 200;

/** Reads a document: tells what it would change or what is wrong with it; with `over` the draft becomes it. */
export const POST: RequestHandler = async (event) => {
  const { request, locals } = event;
  const { document, over } = await bodyOf(request, bodySchema);
  const read = readImported(document);
  if (!read.ok) return json({ problems: read.problem.slice(0, MAX_TOLD), changes: [], count: 0, version: 0 });
  const { configuration, version } = await loadDraft(database);
  const changes = diffConfigurations(configuration, read.value);
  if (over !== undefined) {
    const author = locals.person?.name ?? '';
    const taken = await keeping(() => takeIntoDraft(database, read.value, author, Date.now(), over));
    if (!taken) error(409, 'The draft changed since you looked at it: import the file again.');
    await noteWho(event, 'configuration', `took a document into the draft, ${changes.length} changes`);
  }
  return json({ problems: [], changes: changes.slice(0, MAX_TOLD), count: changes.length, version });
};
