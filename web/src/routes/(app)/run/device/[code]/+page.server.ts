import { error } from '@sveltejs/kit';
import { inAddressOrder, deviceOf } from '@halvix/core/protocols';
import { deviceByCode, model } from '$lib/server/model.ts';
import { pointView, readingsOf } from '$lib/server/points.ts';
import type { PageServerLoad } from './$types';

export const load: PageServerLoad = async ({ params, depends }) => {
  depends('halvix:device-points');
  const current = await model();
  const device = deviceByCode(current, params.code);
  if (device === undefined) error(404, `There is no device ${params.code}`);
  const idOf = (address: string): number | undefined => current.numbers?.get(device.code, address);
  const points = [...current.points.values()]
    .filter((point) => point.device.code === device.code)
    .sort((a, b) => inAddressOrder(a.config, b.config))
    .map((point) => pointView(point, idOf));
  return {
    deviceCode: device.code,
    description: device.description,
    passOn: device.passOnWhileOnTest,
    points,
    polls: deviceOf(device.protocol).polls(device.settings),
    readings: await readingsOf(points.map(({ id }) => id)),
  };
};
