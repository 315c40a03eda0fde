import { addFirstAccount, hasAccounts } from '@halvix/db';
import { fail, redirect } from '@sveltejs/kit';
import { database } from '$lib/server/database.ts';
import { hashPassword, newPasswordSchema, openSession } from '$lib/server/sign-in.ts';
import type { Actions, PageServerLoad } from './$types';

export const load: PageServerLoad = async () => {
  if (await hasAccounts(database)) redirect(303, '/sign-in');
};

export const actions: Actions = {
  default: async ({ request, cookies }) => {
    // Looked at before the costly hash, and once more when the account is made.
    if (await hasAccounts(database)) redirect(303, '/sign-in');
    const form = await request.formData();
    const name = String(form.get('name') ?? '');
    const password = String(form.get('password') ?? '');
    const parsed = newPasswordSchema.safeParse({ name, password });
    if (!parsed.success) return fail(400, { name, problem: parsed.error.issues[0].message });
    if (password !== String(form.get('again') ?? '')) return fail(400, { name, problem: 'The two passwords differ' });
    const account = await addFirstAccount(database, parsed.data.name, await hashPassword(password), Date.now());
    if (account === null) redirect(303, '/sign-in');
    await openSession(cookies, account);
    redirect(303, '/run');
  },
};
