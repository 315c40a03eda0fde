import type { TwoEnds } from '../ends.ts';
import type { ClientSettings, ServerSettings } from './settings.ts';

const ends = (rows: readonly (readonly [what: string, ours: string, theirs: string])[]): TwoEnds[] =>
  rows.map(([what, ours, theirs]) => ({ what, ours, theirs, problem: null }));
const table = (id: string, otherwise: string): string => (id === '' ? otherwise : id);

/** What both ends have to agree on. */
export const clientEnds = ({ domain, bilateralTable, reports, password }: ClientSettings): TwoEnds[] =>
  ends([
    ['Protocol and role', 'TASE.2 client, associates', 'TASE.2 server, holds what the agreement names'],
    ['Domain', `asks for ${domain}`, domain],
    ['Bilateral table', table(bilateralTable, 'any'), table(bilateralTable, 'any')],
    ['Password', password === '' ? 'none' : 'one is given', password === '' ? 'none is asked for' : 'the same'],
    [
      'Transfer sets',
      reports ? 'one for each data set of ours' : 'not used',
      reports ? 'as many free ones' : 'none needed',
    ],
  ]);

export const serverEnds = ({ domain, bilateralTable, transferSets, password }: ServerSettings): TwoEnds[] =>
  ends([
    ['Domain', domain, `asks for ${domain}`],
    ['Bilateral table', table(bilateralTable, 'none is named'), table(bilateralTable, 'none is asked for')],
    ['Password', password === '' ? 'none is asked for' : 'is asked for', password === '' ? 'none' : 'gives the same'],
    ['Transfer sets', String(transferSets), 'takes the next one that is free'],
  ]);
