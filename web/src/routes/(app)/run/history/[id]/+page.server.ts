import { error } from '@sveltejs/kit';
import { model } from '$lib/server/model.ts';
import { pointView, readingsOf } from '$lib/server/points.ts';
import type { PageServerLoad } from './$types';

export const load: PageServerLoad = async ({ params }) => {
  const current = await model();
  const point = /^\d{1,9}$/.test(params.id) ? current.points.get(Number(params.id)) : undefined;
  if (point === undefined) error(404, `There is no point ${params.id}`);
  return {
    deviceCode: point.device.code,
    point: pointView(point, (address) => current.numbers?.get(point.device.code, address)),
    readings: await readingsOf([point.id]),
  };
};
