import type { AnswerTable, FollowUp } from '../../../client.ts';
import { allNames, Refusal, type Dialogue } from '../../../mms/dialogue.ts';
import type { TypeOf } from '../../../mms/wire/data.ts';
import { parse, print, type Reference } from '../../model/reference.ts';
import { QUALITY_BITS } from '../../quality.ts';
import { placeOf, readAll, shownOf, typed, typeOf, variable, write, yes, type Inquiry } from './common.ts';

/* Values that are replaced (substitution, SV) or held (blocking, BL) at the device (IEC 61850-7-3, 7.2). */

const VALUES = ['subVal', 'subMag', 'subCVal'] as const;
const SUBSTITUTED = 10;

const objectOf = (text: string, fc: 'SV' | 'BL'): Reference => {
  const read = parse(`${text.replace(/\[\w+\]$/, '')}[${fc}]`);
  if (!read.ok) throw new Refusal(`"${text.slice(0, 60)}" is no data object: ${read.problem}; nothing was sent`);
  return read.value;
};
const inside = (object: Reference, name: string): Reference => ({ ...object, path: [...object.path, name] });

/** All of one logical device, with what they show now. */
export function* replaceable(device: string): Inquiry {
  const names = new Set((yield* allNames('variable', device)) ?? []);
  const objects = new Map<string, { node: string; object: string; sv: boolean; bl: boolean }>();
  for (const name of names) {
    const [node, fc, object, attribute, ...more] = name.split('$');
    const isOne = (fc === 'SV' && attribute === 'subEna') || (fc === 'BL' && attribute === 'blkEna');
    if (!isOne || more.length > 0) continue;
    const known = objects.get(`${node}.${object}`) ?? { node, object, sv: false, bl: false };
    objects.set(`${node}.${object}`, { ...known, ...(fc === 'SV' ? { sv: true } : { bl: true }) });
  }
  const all = [...objects.values()];
  const fcOf = ({ node, object }: (typeof all)[number]): 'ST' | 'MX' =>
    names.has(`${node}$MX$${object}`) ? 'MX' : 'ST';
  const values = yield* readAll(all.map((one) => variable(device, `${one.node}$${fcOf(one)}$${one.object}`)));
  const replaced = yield* readAll(all.map(({ node, object }) => variable(device, `${node}$SV$${object}$subEna`)));
  const held = yield* readAll(all.map(({ node, object }) => variable(device, `${node}$BL$${object}$blkEna`)));
  const rows: AnswerTable['rows'][number][] = [];
  for (const [at, one] of all.entries()) {
    const of = yield* typeOf(variable(device, `${one.node}$${fcOf(one)}$${one.object}`));
    const reference = `${device}/${one.node}.${one.object}`;
    const [value, quality] = shownOf(of, values[at]);
    rows.push({
      cells: [reference, value, quality, yes(replaced[at]) ? 'replaced' : yes(held[at]) ? 'held' : ''],
      asks: asksOf(reference, value, one, { replaced: yes(replaced[at]), held: yes(held[at]) }),
    });
  }
  return {
    tables: [
      {
        title: `Values of ${device} that can be replaced or held`,
        columns: ['Object', 'Value', 'Quality', 'Now'],
        rows,
      },
    ],
  };
}

function asksOf(
  reference: string,
  value: string,
  has: { sv: boolean; bl: boolean },
  now: { replaced: boolean; held: boolean },
): FollowUp[] {
  const plain = (what: string, of: string, on: boolean): FollowUp => ({
    words: of,
    order: { what, reference, on },
    fields: [],
  });
  return [
    ...(has.sv
      ? [
          {
            words: 'replace…',
            order: { what: 'replace', reference, value },
            fields: [{ path: 'value', title: 'Value', type: 'text' as const }],
          },
        ]
      : []),
    ...(has.sv && now.replaced ? [{ words: 'let go', order: { what: 'letGo', reference }, fields: [] }] : []),
    ...(has.bl ? [plain('block', now.held ? 'let it change' : 'hold', !now.held)] : []),
  ];
}

/** Which of its attributes holds the value that replaces, and what that is made of. */
function* replacing(object: Reference): Dialogue<{ place: Reference; of: TypeOf }> {
  const of = yield* typeOf(placeOf(object));
  const parts = of?.type === 'structure' ? of.components : [];
  const part = parts.find(({ name }) => VALUES.some((one) => one === name));
  if (part === undefined) throw new Refusal(`${print(object)} has nothing that replaces its value; nothing was sent`);
  return { place: inside(object, part.name), of: part.of };
}

export function* replace(text: string, value: string, by: string): Inquiry {
  const object = objectOf(text, 'SV');
  const { place, of } = yield* replacing(object);
  const data = typed(of, value, place);
  yield* write(placeOf(place), data, print(place));
  const bits = Array.from({ length: QUALITY_BITS }, (_, bit) => bit === SUBSTITUTED);
  // Devices that set these themselves refuse them; whether it goes shows with the last one.
  for (const [name, other] of [
    ['subQ', { type: 'bits', bits }],
    ['subID', { type: 'text', text: by, wide: false }],
  ] as const) {
    const there = yield* typeOf(placeOf(inside(object, name)));
    if (there !== null) yield* write(placeOf(inside(object, name)), other, print(inside(object, name)));
  }
  const enable = inside(object, 'subEna');
  yield* write(placeOf(enable), { type: 'boolean', value: true }, print(enable));
  return { words: `${text} is ${value.trim()} there until it is let go` };
}

export function* letGo(text: string): Inquiry {
  const enable = inside(objectOf(text, 'SV'), 'subEna');
  yield* write(placeOf(enable), { type: 'boolean', value: false }, print(enable));
  return { words: `${text} shows its process again` };
}

export function* block(text: string, on: boolean): Inquiry {
  const enable = inside(objectOf(text, 'BL'), 'blkEna');
  yield* write(placeOf(enable), { type: 'boolean', value: on }, print(enable));
  return { words: on ? `${text} stays as it is until it is let change` : `${text} changes again` };
}
