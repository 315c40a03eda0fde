import type { AnswerTable, ClientPoint, FollowUp } from '../../client.ts';
import { ask, Refusal, type Dialogue } from '../../mms/dialogue.ts';
import { accessErrorWords } from '../../mms/wire/data.ts';
import { nameWords, type ObjectName } from '../../mms/wire/names.ts';
import type { Order } from '../order.ts';
import { nameOfPoint, printAt, type TaseAt } from '../points.ts';
import { TAG, tagData, tagOf, tagWords, type Tag } from '../tags.ts';

/* Tags of what a peer lets us operate: read, set, taken off. */

const tagName = (at: TaseAt): ObjectName => {
  const name = nameOfPoint(at);
  return { ...name, item: `${name.item}${TAG}` };
};

/** The tag of a point, with as many bits as its peer has there; null: it has none, or does not tell. */
export function* readTag(at: TaseAt): Dialogue<{ tag: Tag; bits: number } | null> {
  const answer = yield* ask('read', { variables: { names: [{ name: tagName(at) }] } });
  const data = answer.ok ? answer.response.results[0] : undefined;
  const tag = tagOf(data);
  const flags = data?.type === 'structure' ? data.items[0] : undefined;
  return tag === null || flags?.type !== 'bits' ? null : { tag, bits: flags.bits.length };
}

export function* readTags(points: readonly ClientPoint<TaseAt>[]): Dialogue<AnswerTable> {
  const rows: AnswerTable['rows'][number][] = [];
  for (const { kind, at } of points) {
    if (kind !== 'output' && kind !== 'setpoint') continue;
    const found = yield* readTag(at);
    if (found !== null) rows.push({ cells: [printAt(at), tagWords(found.tag)], asks: followUps(at, found.tag) });
  }
  return { title: 'Tags', columns: ['Object', 'Tag'], rows };
}

function followUps(at: TaseAt, { inhibits }: Tag): FollowUp[] {
  const point = printAt(at);
  const reason = { path: 'reason', title: 'Reason', type: 'text', help: 'who, and why' } as const;
  const put = (what: Tag['inhibits'], words: string): FollowUp => ({
    words,
    order: { what: 'tag', point, inhibits: what, reason: '' },
    fields: what === 'nothing' ? [] : [reason],
  });
  return [
    ...(inhibits === 'nothing' ? [] : [put('nothing', 'take it off')]),
    ...(inhibits === 'open and close' ? [] : [put('open and close', 'inhibit open and close…')]),
    ...(inhibits === 'close' ? [] : [put('close', 'inhibit close…')]),
  ];
}

/** Sets a tag and reads it back: what it is then, in words. */
export function* setTag(
  points: readonly ClientPoint<TaseAt>[],
  { point, inhibits, reason }: Order & { what: 'tag' },
): Dialogue<string> {
  const at = points.find((one) => printAt(one.at) === point)?.at;
  if (at === undefined) throw new Refusal(`point: there is no ${point} in the list`);
  const before = yield* readTag(at);
  if (before === null) throw new Refusal(`point: ${point} has no tag there`);
  const name = tagName(at);
  const tag = { inhibits, reason: inhibits === 'nothing' ? '' : reason };
  const answer = yield* ask('write', { variables: { names: [{ name }] }, values: [tagData(tag, before.bits)] });
  if (!answer.ok) throw new Refusal(answer.lost ? `it was written, but ${answer.words}` : answer.words);
  const [error = null] = answer.response.results;
  if (error !== null) throw new Refusal(`${nameWords(name)}: ${accessErrorWords(error)}`);
  const after = yield* readTag(at);
  return after === null ? 'written' : tagWords(after.tag);
}
