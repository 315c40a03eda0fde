import { z } from 'zod';
import type { AddressText, PointAddressing } from '../definition.ts';

/*
 * A point says of whom it tells:
 *
 *   comm HLM-F1        the device
 *   comm HLM-F1 AI 7   what is asked for that point of it: the read block that brings it, where there are blocks
 *   comm to QST        the outbound
 *
 * 1: communication has failed.
 */

const CODE = /^[A-Z0-9][A-Z0-9-]{0,23}$/;
const code = z.string().regex(CODE, 'A code has 1 to 24 capital letters, digits and hyphens');
const shape = {
  protocol: z.literal('supervision'),
  of: z.enum(['device', 'outbound']),
  /** Of one point of a device, its address as text; empty: of all. */
  point: z.string().max(200, 'An address has at most 200 characters').default(''),
};
export const pointAtSchema = z.object({ ...shape, code });
export const draftAtSchema = z.object({ ...shape, code: z.union([code, z.literal('')]) });
export type SupervisionAt = z.infer<typeof pointAtSchema>;
export type SupervisionDraftAt = z.infer<typeof draftAtSchema>;

const print = ({ of, code: of_, point }: SupervisionDraftAt): string => {
  if (of_ === '') return '';
  const whom = of === 'outbound' ? `to ${of_}` : of_;
  return point === '' ? `comm ${whom}` : `comm ${whom} ${point}`;
};

function parse(text: string): SupervisionAt | null {
  const [, to, whom, point = ''] = /^comm\s+(to\s+)?(\S+)(?:\s+(\S.*))?$/i.exec(text.trim()) ?? [];
  const named = whom?.toUpperCase();
  if (named === undefined || (to !== undefined && point !== '')) return null;
  const read = pointAtSchema.safeParse({
    ...{ protocol: 'supervision', of: to === undefined ? 'device' : 'outbound', code: named },
    point: point.replace(/\s+/g, ' ').trim(),
  });
  return read.success ? read.data : null;
}

const HELP = 'comm HLM-F1 of a device, comm HLM-F1 AI 7 of what is asked for a point of it, comm to QST of an outbound';

export const address: AddressText<SupervisionDraftAt> = {
  print: ({ at }) => print(at),
  sort: ({ at: { of, code: whom, point } }) => `${of} ${whom} ${point}`,
};

export const points: PointAddressing<SupervisionAt, SupervisionDraftAt, object> = {
  at: pointAtSchema,
  draftAt: draftAtSchema,
  kinds: ['binary'],
  defaults: { point: '' },
  history: 'every',
  outputShows: false,
  blank: () => ({ protocol: 'supervision', of: 'device', code: '', point: '' }),
  parse: (text) => {
    const at = parse(text);
    return at && { kind: 'binary', at };
  },
  cell: {
    key: 'index',
    title: 'Address',
    help: HELP,
    aliases: [],
    text: ({ at }) => print(at),
    set: ({ kind, at }, text) => {
      if (text.trim() === '') return { ok: true, value: { kind, at: { ...at, code: '', point: '' } } };
      const read = parse(text);
      return read === null
        ? { ok: false, problem: `${text} is none: ${HELP}` }
        : { ok: true, value: { kind, at: read } };
    },
  },
  isNumbered: false,
  series: () => 'comm',
  number: () => null,
  withNumber: (at) => at,
  width: () => 1,
  highest: 0,
  fields: [],
  check: () => [],
  sendable: () => ({ ok: false, problem: 'it is only seen' }),
  form: () => 'state',
  names: {
    of: ({ of, code: whom, point }) => (whom === '' ? null : { kind: of, code: whom, point: point || null }),
    renamed: (at, { code: whom, point }) => ({ ...at, code: whom, point: point ?? '' }),
  },
  obtainable: ({ devices, outbounds }) => [
    ...devices.map(({ code: whom, name }) => ({
      name: `${name}, communication`.slice(0, 80),
      kind: 'binary' as const,
      at: { protocol: 'supervision' as const, of: 'device' as const, code: whom, point: '' },
      states: ['normal', 'failed'],
    })),
    ...outbounds.map(({ code: whom, centre }) => ({
      name: `${centre}, communication`.slice(0, 80),
      kind: 'binary' as const,
      at: { protocol: 'supervision' as const, of: 'outbound' as const, code: whom, point: '' },
      states: ['normal', 'failed'],
    })),
  ],
};
