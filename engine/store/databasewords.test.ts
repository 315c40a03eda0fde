import { expect, test } from 'vitest';
import { databaseWords } from './databasewords.ts';

const coded = (code: string, message = 'as it says'): Error => Object.assign(new Error(message), { code });

test.each([
  [coded('55P03'), 'another program holds its tables (55P03)'],
  [coded('53100'), 'there is no space left on its disk (53100)'],
  [new Error('failed', { cause: coded('ECONNREFUSED') }), 'nobody listens where it should be (ECONNREFUSED)'],
  [coded('XX000'), 'as it says'],
  ['a word', 'a word'],
])('%s', (error, words) => expect(databaseWords(error)).toBe(words));
