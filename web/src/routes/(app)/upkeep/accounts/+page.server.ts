import { nameProblem, normalName } from '@halvix/core/accounts';
import { accounts, addAccount, changeAccount, endSessions, type AccountChange } from '@halvix/db';
import { fail, type RequestEvent } from '@sveltejs/kit';
import { z } from 'zod';
import { formOf } from '$lib/server/body.ts';
import { database } from '$lib/server/database.ts';
import { liveHub } from '$lib/server/live.ts';
import { noteWho, type SecurityEvent } from '$lib/server/security.ts';
import { hashPassword, newPasswordSchema } from '$lib/server/sign-in.ts';
import type { Actions, PageServerLoad } from './$types';

export const load: PageServerLoad = async () => ({ accounts: await accounts(database, Date.now()) });

const role = z.enum(['viewer', 'operator', 'engineer'], { error: 'Role: viewer, operator or engineer' });
const id = z.coerce.number().int().min(1).max(2_147_483_647);
const PROBLEMS = {
  missing: 'There is no such account any more',
  lastEngineer: 'This is the last engineer: somebody has to be left who may do everything',
  nameTaken: 'Name: another account has it',
} as const;

/** Carries out a change of an account, ends its sessions where that is due, and notes it. */
async function change(
  event: RequestEvent,
  given: FormDataEntryValue | null,
  change: AccountChange,
  what: SecurityEvent,
  words: (name: string) => string,
): Promise<{ done: string } | ReturnType<typeof fail<{ problem: string }>>> {
  const parsed = id.safeParse(given);
  if (!parsed.success) return fail(400, { problem: 'There is no such account' });
  const outcome = await changeAccount(database, parsed.data, change);
  if (!outcome.ok) return fail(409, { problem: PROBLEMS[outcome.problem] });
  // Whoever was somebody else, or may less now, signs in again.
  if (change.name === undefined) liveHub.endSessions(await endSessions(database, parsed.data, { except: null }));
  const said = words(outcome.before.name);
  await noteWho(event, what, said);
  return { done: `${said[0].toUpperCase()}${said.slice(1)}.` };
}

export const actions: Actions = {
  add: async (event) => {
    const form = await formOf(event.request);
    const given = { name: String(form.get('name') ?? ''), password: String(form.get('password') ?? '') };
    const parsed = newPasswordSchema.safeParse(given);
    if (!parsed.success) return fail(400, { problem: parsed.error.issues[0].message, name: given.name });
    const wanted = role.safeParse(form.get('role'));
    if (!wanted.success) return fail(400, { problem: wanted.error.issues[0].message, name: given.name });
    const hash = await hashPassword(parsed.data.password);
    if (!(await addAccount(database, parsed.data.name, wanted.data, hash, Date.now(), true)))
      return fail(409, { problem: PROBLEMS.nameTaken, name: given.name });
    await noteWho(event, 'account', `added ${parsed.data.name} as ${wanted.data}`);
    return { done: `Added ${parsed.data.name} as ${wanted.data}.` };
  },
  role: async (event) => {
    const form = await formOf(event.request);
    const wanted = role.safeParse(form.get('role'));
    if (!wanted.success) return fail(400, { problem: wanted.error.issues[0].message });
    return change(event, form.get('id'), { role: wanted.data }, 'account', (name) => `made ${name} ${wanted.data}`);
  },
  rename: async (event) => {
    const form = await formOf(event.request);
    const name = normalName(String(form.get('name') ?? '').slice(0, 256));
    const problem = nameProblem(name);
    if (problem !== null) return fail(400, { problem: `Name: ${problem}` });
    return change(event, form.get('id'), { name }, 'account', (old) => `renamed ${old} to ${name}`);
  },
  disable: async (event) => {
    const form = await formOf(event.request);
    const disabled = form.get('disabled') === 'yes';
    const words = (name: string): string => `${disabled ? 'disabled' : 'enabled'} ${name}`;
    return change(event, form.get('id'), { disabled }, 'account', words);
  },
  reset: async (event) => {
    const form = await formOf(event.request);
    const password = String(form.get('password') ?? '');
    const parsed = newPasswordSchema.safeParse({ name: String(form.get('name') ?? '-'), password });
    if (!parsed.success) return fail(400, { problem: parsed.error.issues[0].message });
    const passwordHash = await hashPassword(password);
    return change(
      event,
      form.get('id'),
      { passwordHash, mustChange: true },
      'password',
      (name) => `reset the password of ${name}`,
    );
  },
  end: async (event) => {
    const form = await formOf(event.request);
    return change(event, form.get('id'), {}, 'session', (name) => `ended the sessions of ${name}`);
  },
};
