import { error } from '@sveltejs/kit';
import { kindRank } from '@halvix/core/point';
import { deviceByCode, model } from '$lib/server/model.ts';
import { pointView, readingsOf } from '$lib/server/points.ts';
import type { PageServerLoad } from './$types';

export const load: PageServerLoad = async ({ params, depends }) => {
  depends('halvix:device-points');
  const current = await model();
  const device = deviceByCode(current, params.code);
  if (device === undefined) error(404, `There is no device ${params.code}`);
  const idOf = (kind: string, index: number): number | undefined => current.numbers?.get(device.code, kind, index);
  const points = [...current.points.values()]
    .filter((point) => point.device.code === device.code)
    .sort((a, b) => kindRank(a.config.kind) - kindRank(b.config.kind) || a.config.index - b.config.index)
    .map((point) => pointView(point, idOf));
  const { class1PeriodMs, integrityPeriodMs } = device.settings;
  return {
    deviceCode: device.code,
    description: device.description,
    points,
    periods: { eventsMs: class1PeriodMs, integrityMs: integrityPeriodMs },
    readings: await readingsOf(points.map(({ id }) => id)),
  };
};
