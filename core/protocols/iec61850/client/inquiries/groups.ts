import type { AnswerTable, OrderAnswer } from '../../../client.ts';
import { ask, Refusal, type Dialogue } from '../../../mms/dialogue.ts';
import type { Data } from '../../../mms/wire/data.ts';
import { objectInfo } from '../../model/nodes.ts';
import { nodeName, parse, print, type Reference } from '../../model/reference.ts';
import {
  numberIn,
  placeOf,
  readAll,
  typed,
  typeOf,
  valuesWith,
  variable,
  words,
  write,
  type Inquiry,
} from './common.ts';

/*
 * Setting groups (IEC 61850-7-2, clause 16): SelectActiveSG, and SelectEditSG, SetEditSGValue, ConfirmEditSGValues,
 * GetEditSGValue, GetSGCBValues. Whoever edits a group lets go of it, whatever came of it.
 */

const block = (device: string, attribute: string): ReturnType<typeof variable> =>
  variable(device, `LLN0$SP$SGCB$${attribute}`);
const count = (value: number): Data => ({ type: 'unsigned', value });

export function* useGroup(device: string, group: number): Inquiry {
  yield* write(block(device, 'ActSG'), count(group), `group ${group} of ${device}`);
  const [active] = yield* readAll([block(device, 'ActSG')]);
  if (numberIn(active) !== group)
    throw new Refusal(`${device} took it, and says that group ${numberIn(active) ?? '?'} is in use`);
  return { words: `group ${group} is in use in ${device}` };
}

/** What is asked while a group is being edited; it is let go of in any case. */
function* edited<Value>(device: string, group: number, work: () => Dialogue<Value>): Dialogue<Value> {
  yield* write(block(device, 'EditSG'), count(group), `editing group ${group} of ${device}`);
  try {
    return yield* work();
  } catch (error) {
    // After a confirmation nobody edits any more; a refusal of this changes nothing.
    yield* ask('write', { variables: { names: [block(device, 'EditSG')] }, values: [count(0)] });
    throw error;
  }
}

/** What the standard calls it. */
const meaningOf = ({ node, path: [object] }: Reference): string => {
  const name = nodeName(node);
  return (name && objectInfo(name.class, object)?.meaning) ?? '';
};

export function* groupValues(device: string, group: number): Inquiry {
  const [active] = yield* readAll([block(device, 'ActSG')]);
  const isActive = numberIn(active) === group;
  const found = isActive
    ? yield* valuesWith(device, (fc) => fc === 'SG')
    : yield* edited(device, group, function* () {
        const all = yield* valuesWith(device, (fc) => fc === 'SE');
        yield* ask('write', { variables: { names: [block(device, 'EditSG')] }, values: [count(0)] });
        return all;
      });
  const table: AnswerTable = {
    title: `Group ${group} of ${device}${isActive ? ', which is in use' : ''}`,
    columns: ['Setting', 'Meaning', 'Value'],
    rows: found.map(({ reference, data }) => {
      const editable = print({ ...reference, fc: 'SE' });
      const value = words(reference.path, data);
      return {
        cells: [print({ ...reference, fc: 'SG' }), meaningOf(reference), value],
        asks: [
          {
            words: 'set…',
            order: { what: 'setInGroup', device, group, reference: editable, value },
            fields: [{ path: 'value', title: 'Value', type: 'text' }],
          },
        ],
      };
    }),
  };
  return { tables: [table] };
}

export function* setInGroup(device: string, group: number, written: string, value: string): Inquiry {
  const read = parse(written);
  if (!read.ok) throw new Refusal(`"${written.slice(0, 60)}" is no reference: ${read.problem}; nothing was sent`);
  const reference = { ...read.value, fc: 'SE' as const };
  const place = placeOf(reference);
  const of = yield* typeOf(place);
  if (of === null) throw new Refusal(`${print(reference)} is not there; nothing was sent`);
  const data = typed(of, value, reference);
  return yield* edited(device, group, function* (): Dialogue<OrderAnswer> {
    yield* write(place, data, print(reference));
    yield* write(block(device, 'CnfEdit'), { type: 'boolean', value: true }, `confirming group ${group}`);
    return { words: `${print(reference)} is ${value.trim()} in group ${group}` };
  });
}
