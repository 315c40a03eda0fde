import { addFirstAccount, hasAccounts } from '@halvix/db';
import { fail, redirect } from '@sveltejs/kit';
import { formOf } from '$lib/server/body.ts';
import { database } from '$lib/server/database.ts';
import { noteWho } from '$lib/server/security.ts';
import { isSetupSecret } from '$lib/server/setup.ts';
import { hashPassword, newPasswordSchema, openSession } from '$lib/server/sign-in.ts';
import type { Actions, PageServerLoad } from './$types';

export const load: PageServerLoad = async () => {
  if (await hasAccounts(database)) redirect(303, '/sign-in');
};

/** Guessing is slow. */
const WRONG_SECRET_MS = 1000;

export const actions: Actions = {
  default: async (event) => {
    const { request } = event;
    // Looked at before the costly hash, and once more when the account is made.
    if (await hasAccounts(database)) redirect(303, '/sign-in');
    const form = await formOf(request);
    const name = String(form.get('name') ?? '');
    const password = String(form.get('password') ?? '');
    if (!isSetupSecret(String(form.get('secret') ?? ''))) {
      await noteWho(event, 'failed sign-in', 'first account: the secret is wrong', name);
      await new Promise((resolve) => setTimeout(resolve, WRONG_SECRET_MS));
      return fail(400, { name, problem: 'Secret: not the one that was printed when Halvix was started' });
    }
    const parsed = newPasswordSchema.safeParse({ name, password });
    if (!parsed.success) return fail(400, { name, problem: parsed.error.issues[0].message });
    if (password !== String(form.get('again') ?? '')) return fail(400, { name, problem: 'The two passwords differ' });
    const account = await addFirstAccount(database, parsed.data.name, await hashPassword(password), Date.now());
    if (account === null) redirect(303, '/sign-in');
    await openSession(event, account);
    await noteWho(event, 'account', 'made the first account', account.name);
    redirect(303, '/run');
  },
};
