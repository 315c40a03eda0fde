import { accountByName, changeAccount, endSessions, labelOfSession, sessionsOf } from '@halvix/db';
import { fail } from '@sveltejs/kit';
import { formOf } from '$lib/server/body.ts';
import { database } from '$lib/server/database.ts';
import { liveHub } from '$lib/server/live.ts';
import { passwordProblem } from '@halvix/core/accounts';
import { noteWho } from '$lib/server/security.ts';
import { checkCredentials, hashPassword, sessionHash } from '$lib/server/sign-in.ts';
import type { Actions, PageServerLoad } from './$types';

export const load: PageServerLoad = async ({ locals, cookies }) => {
  const sessions = await sessionsOf(database, locals.person?.id ?? 0, Date.now());
  const own = await labelOfSession(database, sessionHash(cookies) ?? '');
  return {
    sessions: sessions.map(({ label, created, seen, address, agent, expires }) => ({
      ...{ label, created, seen, address, agent, expires },
      isThis: label !== '' && label === own,
    })),
  };
};

export const actions: Actions = {
  password: async (event) => {
    const { locals, request, cookies } = event;
    if (locals.person === null) return fail(401, { problem: 'Sign in first' });
    const form = await formOf(request);
    const [old, next, again] = ['old', 'next', 'again'].map((name) => String(form.get(name) ?? ''));
    const account = await accountByName(database, locals.person.name);
    if (account === null) return fail(401, { problem: 'Sign in first' });
    const checked = await checkCredentials(event, account.name, old.slice(0, 256));
    if (!checked.ok) {
      await noteWho(event, 'password', 'a change was refused: the old password is wrong');
      return fail(400, {
        problem: checked.words.startsWith('Name or') ? 'Old password: it is wrong' : checked.words,
      });
    }
    const problem = passwordProblem(next, account.name);
    if (problem !== null) return fail(400, { problem: `New password: ${problem}` });
    if (next !== again) return fail(400, { problem: 'The two new passwords differ' });
    if (next === old) return fail(400, { problem: 'New password: it is the old one' });
    await changeAccount(database, account.id, { passwordHash: await hashPassword(next), mustChange: false });
    // Whoever knew the old one is out.
    liveHub.endSessions(await endSessions(database, account.id, { except: sessionHash(cookies) }));
    await noteWho(event, 'password', 'changed the own password');
    return { done: 'The password is changed; your other sessions have ended.' };
  },
  end: async (event) => {
    const { locals, request } = event;
    if (locals.person === null) return fail(401, { problem: 'Sign in first' });
    const label = String((await formOf(request)).get('label') ?? '');
    const ended = await endSessions(database, locals.person.id, { label });
    liveHub.endSessions(ended);
    await noteWho(event, 'session', `ended ${ended.length} of the own sessions`);
    return { done: ended.length > 0 ? 'The session has ended.' : 'It had ended already.' };
  },
};
