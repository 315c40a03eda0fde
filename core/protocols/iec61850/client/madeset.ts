import { ask, demand, Refusal, type Dialogue } from '../../mms/dialogue.ts';
import { accessErrorWords } from '../../mms/wire/data.ts';
import type { ObjectName } from '../../mms/wire/names.ts';
import { nameWords } from '../../mms/wire/names.ts';
import { referenceOfVariable } from '../model/discovery.ts';
import { print, type Reference } from '../model/reference.ts';
import { variableOf } from './reads.ts';

/*
 * A data set that we make in a device for a report control block that has none (IEC 61850-7-2, clause 13: CreateDataSet).
 * It is called after its block, which one client has at a time: two of us never meet in one.
 *
 * what there is                        what is done
 * -----------------------------------  ----------------------------------------------------------------------
 * the set, with the same members       nothing: what waits in the buffer of its block stays
 * the set, with others                 the block lets go of it, it is deleted and made anew
 * none                                 it is made
 */

interface Block {
  domain: string;
  /** `LLN0$BR$brcb01`. */
  item: string;
}

/** Names of data sets have 32 characters at most (IEC 61850-7-2, 22.2). */
const MOST_NAME = 32;
const OURS = 'Hx_';

const setName = ({ item }: Block): string => {
  const [node, , block] = item.split('$');
  return `${node}$${`${OURS}${block}`.slice(0, MOST_NAME)}`;
};
/** As blocks name it: `HLM/LLN0$Hx_brcb01`. */
export const madeName = (block: Block): string => `${block.domain}/${setName(block)}`;

/** Sees to it that the block, which is reserved for us, has a data set with these members; `present`: the one it has. */
export function* makeSet(block: Block, members: readonly Reference[], present: string): Dialogue<void> {
  const { domain } = block;
  const name: ObjectName = { scope: 'domain', domain, item: setName(block) };
  const own = madeName(block);
  const known = yield* ask('listAttributes', { name });
  const wanted = members.map(print).join(' ');
  const has = known.ok
    ? known.response.names.map((one) => referenceOfVariable(one)).map((one) => (one === null ? '' : print(one)))
    : null;
  const isSame = has !== null && has.join(' ') === wanted;
  if (isSame && present === own) return;
  if (!isSame) {
    if (present === own) yield* setOf(block, '');
    if (has !== null) yield* demand('deleteList', { names: [name] }, nameWords(name));
    const made = yield* ask('defineList', { name, names: members.map(variableOf) });
    if (!made.ok) throw new Refusal(`no data set can be made there: ${made.words}`);
  }
  yield* setOf(block, own);
}

/** Lets go of a data set of ours, which goes with it; what the device says to that changes nothing any more. */
export function* removeSet(block: Block): Dialogue<void> {
  const name: ObjectName = { scope: 'domain', domain: block.domain, item: setName(block) };
  yield* ask('write', { variables: datSet(block), values: [{ type: 'text', text: '', wide: false }] });
  yield* ask('deleteList', { names: [name] });
}

const datSet = ({ domain, item }: Block): { names: { name: ObjectName }[] } => ({
  names: [{ name: { scope: 'domain', domain, item: `${item}$DatSet` } }],
});

function* setOf(block: Block, name: string): Dialogue<void> {
  const what = `the data set of ${block.domain}/${block.item}`;
  const { results } = yield* demand(
    'write',
    { variables: datSet(block), values: [{ type: 'text', text: name, wide: false }] },
    what,
  );
  const [error = null] = results;
  if (error !== null) throw new Refusal(`${what}: ${accessErrorWords(error)}`);
}
