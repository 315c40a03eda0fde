import { error } from '@sveltejs/kit';
import { readingsBefore, trailOf } from '@halvix/db';
import { database } from '$lib/server/database.ts';
import { ask } from '$lib/server/live.ts';
import { model } from '$lib/server/model.ts';
import { pointView, readingsOf } from '$lib/server/points.ts';
import type { PageServerLoad } from './$types';

const EARLIER = 30;

export const load: PageServerLoad = async ({ params, depends }) => {
  depends('halvix:earlier');
  const current = await model();
  const point = /^\d{1,9}$/.test(params.id) ? current.points.get(Number(params.id)) : undefined;
  if (point === undefined) error(404, `There is no point ${params.id}`);
  await ask({ type: 'watch', pointId: point.id });
  return {
    deviceCode: point.device.code,
    point: pointView(point, (address) => current.numbers?.get(point.device.code, address)),
    readings: await readingsOf([point.id]),
    trail: await trailOf(database, point.id),
    earlier: await readingsBefore(database, point.id, Date.now() + 86_400_000, EARLIER),
  };
};
