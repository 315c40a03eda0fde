import { GENERIC_PROFILES } from '@halvix/core/profile';
import { POINT_KINDS, KIND_WORDS } from '@halvix/core/point';
import { profiles } from '@halvix/db';
import { database } from '$lib/server/database.ts';
import type { PageServerLoad } from './$types';

export interface ProfileLine {
  code: string;
  name: string;
  description: string;
  generic: boolean;
  points: number;
  kinds: string;
}

export const load: PageServerLoad = async () => {
  const lines: ProfileLine[] = [
    ...GENERIC_PROFILES.map((one) => ({ one, generic: true })),
    ...(await profiles(database)).map((one) => ({ one, generic: false })),
  ].map(({ one, generic }) => ({
    code: one.code,
    name: one.name,
    description: one.description,
    generic,
    points: one.points.length,
    kinds: POINT_KINDS.flatMap((kind) => {
      const count = one.points.filter((point) => point.kind === kind).length;
      return count === 0 ? [] : [`${count} ${KIND_WORDS[kind].short}`];
    }).join(', '),
  }));
  return { profiles: lines };
};
