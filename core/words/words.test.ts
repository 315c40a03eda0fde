import { expect, test } from 'vitest';
import { z } from 'zod';
import { firstProblem } from './index.ts';

test.each([
  [z.number(), 'abc', 'must be a number, not "abc"'],
  [z.number(), NaN, 'must be a number'],
  [z.number().int(), 1.5, 'must be a whole number, not 1.5'],
  [z.number().min(5), 3, 'must be at least 5, not 3'],
  [z.number().max(5), 1e9, 'must be at most 5, not 1000000000'],
  [z.number().positive(), 0, 'must be more than 0, not 0'],
  [z.string(), 7, 'must be text, not 7'],
  [z.string().min(1), '', 'must have at least 1 character'],
  [z.string().max(2), 'abc', 'must have at most 2 characters'],
  [z.boolean(), 'yes', 'must be yes or no (true, false), not "yes"'],
  [z.array(z.number()).max(1), [1, 2], 'must have at most 1 entry'],
  [z.array(z.number()), 'a'.repeat(100), `must be a list, not "${'a'.repeat(39)}…`],
  [z.enum(['tcp', 'udp']), 'serial', 'must be one of tcp, udp, not "serial"'],
  [z.enum(['tcp', 'udp']), undefined, 'is missing'],
  [z.literal(1), 2, 'must be 1, not 2'],
  [z.uuid(), 'x', 'must be a UUID, not "x"'],
  [z.object({ port: z.number() }), {}, 'port: is missing'],
  [z.strictObject({}), { bogus: 1 }, 'bogus: not known here'],
  [z.number('A port is a number'), 'x', 'A port is a number'],
] as [z.ZodType, unknown, string][])('%# a value that does not fit is answered in words', (schema, value, words) => {
  const parsed = schema.safeParse(value);
  if (parsed.success) throw new Error('it fits');
  expect(firstProblem(parsed.error)).toBe(words);
});
