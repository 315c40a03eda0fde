import { reason } from '../log.ts';

/**
 * What usually stands behind what the database or the way to it says, in words: by SQLSTATE (PostgreSQL 15, appendix A) or
 * by what the system calls it. Null: what it says itself has to do.
 */
const WORDS: Readonly<Record<string, string>> = {
  '55P03': 'another program holds its tables',
  '57014': 'it took too long: another program holds its tables, or its disk is slow',
  '53100': 'there is no space left on its disk',
  '53200': 'it has no memory left',
  '53300': 'it takes no more connections',
  '57P01': 'it is being stopped',
  '57P02': 'it is being stopped',
  '57P03': 'it is starting, or being stopped',
  '25006': 'it takes no changes: it is a copy that stands by',
  '28P01': 'it does not take our password',
  '3D000': 'there is no database of that name',
  '42501': 'our role there may not write',
  ECONNREFUSED: 'nobody listens where it should be',
  ECONNRESET: 'the connection to it was cut',
  ETIMEDOUT: 'it does not answer',
  EHOSTUNREACH: 'there is no way to it',
  ENOTFOUND: 'its name is not known',
};

export function databaseWords(error: unknown): string {
  for (let one: unknown = error; one instanceof Error; one = one.cause) {
    const code = 'code' in one ? String(one.code) : '';
    const words = WORDS[code];
    if (words !== undefined) return `${words} (${code})`;
  }
  return reason(error);
}
