import { demand, type Dialogue } from '../../mms/dialogue.ts';
import { callingSettings } from '../../mms/settings.ts';
import { MmsTrial, type Outcome } from '../../mms/trial.ts';
import type { ClientSettings } from '../settings.ts';
import { agreementOf, agreementWords } from './agreement.ts';

/** A first conversation with a peer: what it says of the agreement, and whether it has our domain. */
export const trial = (settings: ClientSettings): MmsTrial => {
  const { domain, bilateralTable, responseTimeoutMs } = settings;
  function* agreement(): Dialogue<Outcome> {
    const found = yield* agreementOf(domain);
    const words = agreementWords(found);
    if (bilateralTable !== '' && found.table !== null && found.table !== bilateralTable)
      return { state: 'bad', words, meaning: `Ours is ${bilateralTable}: both ends have to name the same table.` };
    return { state: found.version === '' && found.table === null ? 'odd' : 'good', words };
  }
  function* objects(): Dialogue<Outcome> {
    const { names, more } = yield* demand('nameList', { class: 'variable', domain, after: null }, `domain ${domain}`);
    const count = `${names.length}${more ? ' or more' : ''}`;
    return names.length > 0
      ? { state: 'good', words: `it has ${count} objects in ${domain}` }
      : {
          state: 'bad',
          words: `there is nothing in ${domain}`,
          meaning: 'The agreement at the peer names nothing for us.',
        };
  }
  return new MmsTrial({ ...callingSettings(settings), responseTimeoutMs }, [
    { step: 'agreement', words: 'asking for its version and bilateral table', ask: agreement, meaning: '' },
    {
      ...{ step: 'objects', words: `asking what is in ${domain}`, ask: objects },
      meaning: 'The domain may be called otherwise there, or the agreement does not know us.',
    },
  ]);
};
