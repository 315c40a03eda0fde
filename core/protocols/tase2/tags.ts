import type { AccessResult, Data, TypeOf } from '../mms/wire/data.ts';

/*
 * Tags of what is operated (IEC 60870-6-503, clause 7.4, and -802; from memory): beside NAME there is NAME_TAG
 *
 *   { Tag bit string 2: what it inhibits, Reason visible string of at most 255 }
 *
 * Whoever has a longer bit string there has the tag in its first two bits.
 */

/** What a tag inhibits, by its two bits; the fourth is none. */
export const INHIBITS = ['nothing', 'open and close', 'close'] as const;
export interface Tag {
  inhibits: (typeof INHIBITS)[number];
  reason: string;
}
export const NO_TAG: Tag = { inhibits: 'nothing', reason: '' };
/** Beside the name of what it is of. */
export const TAG = '_TAG';
export const MOST_REASON = 255;

export const TAG_TYPE: TypeOf = {
  type: 'structure',
  components: [
    { name: 'Tag', of: { type: 'bits', size: 2 } },
    { name: 'Reason', of: { type: 'text', size: -MOST_REASON } },
  ],
};

/** `bits`: as many as the other end has there. */
export function tagData({ inhibits, reason }: Tag, bits = 2): Data {
  const number = INHIBITS.indexOf(inhibits);
  const flags = Array.from({ length: Math.max(2, bits) }, (_, at) => at < 2 && ((number >> (1 - at)) & 1) === 1);
  return {
    type: 'structure',
    items: [
      { type: 'bits', bits: flags },
      { type: 'text', text: reason, wide: false },
    ],
  };
}

/** Null: it is none. */
export function tagOf(data: AccessResult | undefined): Tag | null {
  const [flags, reason] = data?.type === 'structure' ? data.items : [];
  if (flags?.type !== 'bits' || flags.bits.length < 2 || reason?.type !== 'text') return null;
  const inhibits = INHIBITS.at((flags.bits[0] ? 2 : 0) + (flags.bits[1] ? 1 : 0));
  return inhibits === undefined ? null : { inhibits, reason: reason.text };
}

export const tagWords = ({ inhibits, reason }: Tag): string =>
  inhibits === 'nothing' ? 'no tag' : `tagged, inhibits ${inhibits}${reason === '' ? '' : `: ${reason}`}`;
