import { z } from 'zod';

/*
 * What is wrong with a value, in words for whoever typed it: wherever a schema does not say it itself. Importing this
 * once is enough for all schemas of a process.
 */
type Issue = Parameters<z.core.$ZodErrorMap>[0];

const TYPES: Record<string, string> = {
  number: 'a number',
  int: 'a whole number',
  string: 'text',
  boolean: 'yes or no (true, false)',
  array: 'a list',
  object: 'a group of fields',
  record: 'a group of fields',
  date: 'a date',
};
const LONGEST = 40;

/** A value as a person would recognise it. */
function shown(value: unknown): string {
  const text = typeof value === 'number' ? String(value) : (JSON.stringify(value) ?? String(value));
  return text.length > LONGEST ? `${text.slice(0, LONGEST)}…` : text;
}
const not = (input: unknown): string => (input === '' || Number.isNaN(input) ? '' : `, not ${shown(input)}`);

/** `must be …`, with the limit; undefined where the schema's own words serve. */
function wordsOf(issue: Issue): string | undefined {
  const { input } = issue;
  if (input === undefined && /^invalid_(type|value|union)$/.test(issue.code)) return 'is missing';
  switch (issue.code) {
    case 'invalid_type':
      return `must be ${TYPES[issue.expected] ?? issue.expected}${not(input)}`;
    case 'too_small':
    case 'too_big': {
      const small = issue.code === 'too_small';
      const limit = Number(small ? issue.minimum : issue.maximum);
      const bound = issue.inclusive === false ? (small ? 'more than' : 'less than') : small ? 'at least' : 'at most';
      if (issue.origin === 'string') return `must have ${bound} ${limit} ${limit === 1 ? 'character' : 'characters'}`;
      if (issue.origin === 'array') return `must have ${bound} ${limit} ${limit === 1 ? 'entry' : 'entries'}`;
      return `must be ${bound} ${limit}${not(input)}`;
    }
    case 'invalid_value':
      return `must be ${issue.values.length === 1 ? '' : 'one of '}${issue.values.map(String).join(', ')}${not(input)}`;
    case 'invalid_format':
      return issue.format === 'regex' ? undefined : `must be a ${issue.format.toUpperCase()}${not(input)}`;
    case 'unrecognized_keys':
      return `${issue.keys.join(', ')}: not known here`;
    case 'not_multiple_of':
      return `must be a multiple of ${issue.divisor}${not(input)}`;
    case 'invalid_union':
      return `has none of the forms that it may have${not(input)}`;
    default:
      return undefined;
  }
}

z.config({ customError: wordsOf });

/** What is wrong first, with the field's place; for a single value the words alone. */
export const firstProblem = ({ issues: [issue] }: z.ZodError): string =>
  issue.path.length > 0 ? `${issue.path.join('.')}: ${issue.message}` : issue.message;
