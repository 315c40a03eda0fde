import { error } from '@sveltejs/kit';
import { deviceByCode, model } from '$lib/server/model.ts';
import type { PageServerLoad } from './$types';

export const load: PageServerLoad = async ({ params }) => {
  const device = deviceByCode(await model(), params.code);
  if (device === undefined) error(404, `There is no device ${params.code}`);
  return { deviceCode: device.code };
};
