import type { AnswerTable } from '../../../client.ts';
import { accessErrorWords } from '../../../mms/wire/data.ts';
import { print, type Constraint } from '../../model/reference.ts';
import { valuesWith, words, type Inquiry } from './common.ts';

/** What is operated has nothing to be seen, and what is edited is there for who edits it. */
const UNSEEN: ReadonlySet<Constraint> = new Set(['CO', 'SE']);
const MOST_ROWS = 5000;

/** All attributes of a logical device with their values: configuration, descriptions and control blocks too. */
export function* attributes(device: string): Inquiry {
  const all = yield* valuesWith(device, (fc) => !UNSEEN.has(fc));
  const rows = all.slice(0, MOST_ROWS).map(({ reference, data }) => ({
    cells: [print(reference), data.type === 'failure' ? accessErrorWords(data.code) : words(reference.path, data)],
  }));
  const table: AnswerTable = { title: `Attributes of ${device}`, columns: ['Reference', 'Value'], rows };
  return {
    tables: [table],
    words: all.length > MOST_ROWS ? `the first ${MOST_ROWS} of ${all.length} attributes` : `${all.length} attributes`,
  };
}
