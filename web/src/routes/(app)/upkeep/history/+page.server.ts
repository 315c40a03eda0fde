import { POINT_KINDS } from '@halvix/core/point';
import { historySize, retentions, setRetention } from '@halvix/db';
import { fail } from '@sveltejs/kit';
import { z } from 'zod';
import { formOf } from '$lib/server/body.ts';
import { database } from '$lib/server/database.ts';
import { noteWho } from '$lib/server/security.ts';
import type { Actions, PageServerLoad } from './$types';

export const load: PageServerLoad = async () => {
  const [kept, size] = await Promise.all([retentions(database), historySize(database)]);
  return { kept, size };
};

const days = (what: string, least: number): z.ZodType<number> =>
  z.coerce
    .number({ error: `${what}: a number of days` })
    .int(`${what}: whole days`)
    .min(least, `${what}: at least ${least} days`)
    .max(36_500, `${what}: at most 36500 days`);
const kept = z
  .object({
    kind: z.enum(POINT_KINDS),
    readingsDays: days('Readings', 2),
    statisticsDays: days('Statistics', 2),
  })
  .refine(({ readingsDays, statisticsDays }) => statisticsDays >= readingsDays, {
    error: 'Statistics: at least as long as readings',
  });

export const actions: Actions = {
  default: async (event) => {
    const form = await formOf(event.request);
    const parsed = kept.safeParse(Object.fromEntries(form));
    if (!parsed.success) return fail(400, { problem: parsed.error.issues[0].message });
    await setRetention(database, parsed.data);
    const { kind, readingsDays, statisticsDays } = parsed.data;
    await noteWho(event, 'settings', `history of ${kind}: readings ${readingsDays} days, statistics ${statisticsDays}`);
    return { done: kind };
  },
};
