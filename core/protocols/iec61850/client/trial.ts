import { ask, demand, type Dialogue } from '../../mms/dialogue.ts';
import { callingSettings } from '../../mms/settings.ts';
import { MmsTrial, type Outcome } from '../../mms/trial.ts';
import type { ClientSettings } from '../settings.ts';

/*
 * Rules:
 * 1. A server need not say what it is: an error is odd and no more.
 * 2. A server without a logical device is none of IEC 61850.
 * 3. Whether the type of a node fits a message shows at the first of them: where it does not, that is said.
 */

const SHOWN_DEVICES = 5;

function* identify(): Dialogue<Outcome> {
  const answer = yield* ask('identify', {});
  if (!answer.ok) return { state: 'odd', words: answer.words };
  const { vendor, model, revision } = answer.response;
  return { state: 'good', words: `it says ${[vendor, model, revision].filter(Boolean).join(', ')}` };
}

function* devices(): Dialogue<Outcome> {
  const { names } = yield* demand(
    'nameList',
    { class: 'domain', domain: null, after: null },
    'names of its logical devices',
  );
  if (names.length === 0)
    return { state: 'bad', words: 'it has no logical device', meaning: 'It speaks MMS, but has no model.' };
  const shown = names.slice(0, SHOWN_DEVICES).join(', ');
  const more = names.length > SHOWN_DEVICES ? ` and ${names.length - SHOWN_DEVICES} more` : '';
  const node = { scope: 'domain' as const, domain: names[0], item: 'LLN0' };
  const type = yield* ask('attributes', { name: node });
  if (type.ok) return { state: 'good', words: `it has ${shown}${more}` };
  const words = `it has ${shown}${more}, and does not tell the type of ${names[0]}/LLN0 at once: ${type.words}`;
  return { state: 'odd', words, meaning: 'Types are asked for part by part: that takes longer.' };
}

/** A first conversation with a server: what it is, and which logical devices it has. */
export const trial = (settings: ClientSettings): MmsTrial =>
  new MmsTrial({ ...callingSettings(settings), responseTimeoutMs: settings.responseTimeoutMs }, [
    { step: 'identify', words: 'asking what it is', ask: identify, meaning: '' },
    {
      ...{ step: 'model', words: 'asking for its logical devices', ask: devices },
      meaning: 'It associates, but does not say what it has.',
    },
  ]);
