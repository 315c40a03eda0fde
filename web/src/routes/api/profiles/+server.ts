import { GENERIC_PROFILES, profileSchema } from '@halvix/core/profile';
import { deleteProfile, profiles, saveProfile } from '@halvix/db';
import { error, json } from '@sveltejs/kit';
import { z } from 'zod';
import { bodyOf } from '$lib/server/body.ts';
import { database } from '$lib/server/database.ts';
import type { RequestHandler } from './$types';

const isGeneric = (code: string): boolean => GENERIC_PROFILES.some((profile) => profile.code === code);

/** One profile, whole. */
export const GET: RequestHandler = async ({ url }) => {
  const code = url.searchParams.get('code');
  const profile = [...GENERIC_PROFILES, ...(await profiles(database))].find((one) => one.code === code);
  if (profile === undefined) error(404, `code: there is no profile ${code ?? ''}`);
  return json(profile);
};

export const POST: RequestHandler = async ({ request, locals }) => {
  const profile = await bodyOf(request, profileSchema);
  if (isGeneric(profile.code)) error(409, `code: ${profile.code} is a profile that comes along; choose another code`);
  await saveProfile(database, profile, locals.person?.name ?? '', Date.now());
  return json({ code: profile.code });
};

export const DELETE: RequestHandler = async ({ request }) => {
  const { code } = await bodyOf(request, z.object({ code: z.string().max(24) }));
  if (isGeneric(code)) error(409, `code: ${code} comes along and stays`);
  await deleteProfile(database, code);
  return json({ code });
};
