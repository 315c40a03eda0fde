import { historyOf } from '@halvix/db';
import { error, json } from '@sveltejs/kit';
import { historyDatabase } from '$lib/server/database.ts';
import { PerPerson } from '$lib/server/limits.ts';
import { model } from '$lib/server/model.ts';
import type { RequestHandler } from './$types';

const MAX_READINGS = 2000;
const MAX_SPAN_MS = 4000 * 86_400_000;
const MAX_LOOKS = 3;
const looks = new PerPerson(MAX_LOOKS);

/** `?from=&to=` in milliseconds since 1970 UTC. */
export const GET: RequestHandler = async ({ params, url, locals }) => {
  const id = Number(params.id);
  if (!(await model()).points.has(id)) error(404, `There is no point ${params.id}`);
  const [from, to] = ['from', 'to'].map((name) => Number(url.searchParams.get(name) ?? NaN));
  if (!Number.isFinite(from) || !Number.isFinite(to) || from < 0 || to > 4e12)
    error(400, 'from, to: must be milliseconds since 1970');
  if (to <= from) error(400, 'to: must be after from');
  if (to - from > MAX_SPAN_MS) error(400, 'to: at most 4000 days after from');
  const history = await looks.run(locals.person?.name ?? '', () =>
    historyOf(historyDatabase, id, from, to, MAX_READINGS),
  );
  if (history === null) error(429, `${MAX_LOOKS} looks at history are under way for you already`);
  return json(history);
};
