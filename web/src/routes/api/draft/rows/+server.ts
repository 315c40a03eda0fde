import { draftRowsText } from '@halvix/db';
import { error } from '@sveltejs/kit';
import { database } from '$lib/server/database.ts';
import type { RequestHandler } from './$types';

/** All points or mappings of some devices or outbounds, or of all, as rows `[id, version, parent, document]`. */
export const GET: RequestHandler = async ({ url }) => {
  const kind = url.searchParams.get('kind');
  if (kind !== 'point' && kind !== 'mapping') error(400, 'kind: is not point or mapping');
  const parents = url.searchParams.get('of');
  const text = await draftRowsText(database, kind, parents === null ? null : parents.split(','));
  return new Response(text, { headers: { 'content-type': 'application/json' } });
};
