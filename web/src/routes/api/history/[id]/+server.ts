import { historyOf } from '@halvix/db';
import { error, json } from '@sveltejs/kit';
import { database } from '$lib/server/database.ts';
import { model } from '$lib/server/model.ts';
import type { RequestHandler } from './$types';

const MAX_READINGS = 2000;
const MAX_SPAN_MS = 370 * 86_400_000;

/** `?from=&to=` in milliseconds since 1970 UTC. */
export const GET: RequestHandler = async ({ params, url }) => {
  const id = Number(params.id);
  if (!(await model()).points.has(id)) error(404, `There is no point ${params.id}`);
  const [from, to] = ['from', 'to'].map((name) => Number(url.searchParams.get(name) ?? NaN));
  if (!Number.isFinite(from) || !Number.isFinite(to) || from < 0 || to > 4e12)
    error(400, 'from, to: must be milliseconds since 1970');
  if (to <= from) error(400, 'to: must be after from');
  if (to - from > MAX_SPAN_MS) error(400, 'to: at most 370 days after from');
  return json(await historyOf(database, id, from, to, MAX_READINGS));
};
