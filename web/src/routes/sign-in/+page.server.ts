import { hasAccounts } from '@halvix/db';
import { fail, redirect } from '@sveltejs/kit';
import { formOf } from '$lib/server/body.ts';
import { database } from '$lib/server/database.ts';
import { ownPath } from '$lib/server/ownpath.ts';
import { noteWho } from '$lib/server/security.ts';
import { checkCredentials, credentialsSchema, openSession } from '$lib/server/sign-in.ts';
import type { Actions, PageServerLoad } from './$types';

export const load: PageServerLoad = async ({ locals, url }) => {
  if (locals.person !== null) redirect(303, ownPath(url.searchParams.get('to')));
  if (!(await hasAccounts(database))) redirect(303, '/setup');
};

export const actions: Actions = {
  default: async (event) => {
    const { request, url } = event;
    const form = await formOf(request);
    const name = String(form.get('name') ?? '');
    const parsed = credentialsSchema.safeParse({ name, password: String(form.get('password') ?? '') });
    if (!parsed.success) return fail(400, { name, problem: parsed.error.issues[0].message });
    const checked = await checkCredentials(event, parsed.data.name, parsed.data.password);
    if (!checked.ok) {
      await noteWho(event, 'failed sign-in', checked.words, name);
      return fail(400, { name, problem: checked.words });
    }
    await openSession(event, checked.account);
    await noteWho(event, 'sign-in', `as ${checked.account.role}`, checked.account.name);
    redirect(303, ownPath(url.searchParams.get('to')));
  },
};
