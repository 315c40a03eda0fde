import {
  boolean,
  booleanOf,
  characters,
  charactersOf,
  childrenOf,
  constructed,
  context,
  find,
  integer,
  Malformed,
  need,
  numberOf,
  octetsOf,
  primitive,
  sequence,
  type Element,
  type Node,
} from './ber.ts';
import { dataNode, dataOf, type Data } from './data.ts';
import { nameNode, nameOf, type ObjectName } from './names.ts';

/*
 * Journals (ISO 9506-2, clause 16): entries in the order in which they were made, each with the time of what happened and
 * variables by their tags. Times are those of `binaryTime`, six octets.
 */

export interface JournalEntry {
  id: Uint8Array;
  time: Uint8Array;
  variables: readonly { tag: string; value: Data }[];
  /** What somebody wrote, in the place of variables. */
  note?: string;
}

/** What is read of a journal; nothing given: all from its beginning. */
export interface JournalRange {
  name: ObjectName;
  /** From the first entry that is not older, or from an entry on. */
  from?: { time: Uint8Array } | { entry: Uint8Array };
  /** Up to the last entry that is not younger, or so many. */
  to?: { time: Uint8Array } | { count: number };
  /** Behind this entry, which has that time. */
  after?: { time: Uint8Array; entry: Uint8Array };
}

export interface JournalServices {
  readJournal: { request: JournalRange; response: { entries: readonly JournalEntry[]; more: boolean } };
  /** Takes out all entries, or those up to one; how many. */
  initializeJournal: {
    request: { name: ObjectName; upTo: { time: Uint8Array; entry: Uint8Array | null } | null };
    response: { deleted: number };
  };
  journalStatus: { request: { name: ObjectName }; response: { entries: number; deletable: boolean } };
}

const MAX_COUNT = 0x7fff_ffff;
const MAX_ENTRIES = 0xffff_ffff;
const choice = (tag: number, inside: Node | null): Node | null => (inside === null ? null : constructed(tag, inside));
const nameIn = (octets: Uint8Array, element: Element): ObjectName =>
  nameOf(octets, childrenOf(need(element, context(0), 'name of the journal'))[0]);

function rangeNode(tag: number, { name, from, to, after }: JournalRange): Node {
  const first =
    from === undefined ? null : 'time' in from ? primitive(context(0), from.time) : primitive(context(1), from.entry);
  const last = to === undefined ? null : 'time' in to ? primitive(context(0), to.time) : integer(context(1), to.count);
  return constructed(
    tag,
    constructed(context(0), nameNode(name)),
    choice(context(1), first),
    choice(context(2), last),
    after === undefined
      ? null
      : constructed(context(5), primitive(context(0), after.time), primitive(context(1), after.entry)),
  );
}

function rangeOf(octets: Uint8Array, element: Element): JournalRange {
  const range: JournalRange = { name: nameIn(octets, element) };
  const [from, to, after] = [1, 2, 5].map((number) => find(element, context(number)));
  const [first, last] = [from && childrenOf(from)[0], to && childrenOf(to)[0]];
  if (first !== undefined)
    range.from = first.tag === context(0) ? { time: octetsOf(octets, first) } : { entry: octetsOf(octets, first) };
  if (last !== undefined)
    range.to =
      last.tag === context(0)
        ? { time: octetsOf(octets, last) }
        : { count: numberOf(octets, last, 'a number of entries', 0, MAX_COUNT) };
  if (after !== undefined)
    range.after = {
      time: octetsOf(octets, need(after, context(0), 'time of an entry')),
      entry: octetsOf(octets, need(after, context(1), 'an entry')),
    };
  return range;
}

/** The application that made it is not said: an empty reference. */
const entryNode = ({ id, time, variables, note }: JournalEntry): Node =>
  sequence(
    primitive(context(0), id),
    constructed(context(1), sequence()),
    constructed(
      context(2),
      primitive(context(0), time),
      note === undefined
        ? constructed(
            context(2),
            constructed(
              context(1),
              ...variables.map(({ tag, value }) =>
                sequence(characters(context(0), tag), constructed(context(1), dataNode(value))),
              ),
            ),
          )
        : characters(context(3), note),
    ),
  );

function entryOf(octets: Uint8Array, element: Element): JournalEntry {
  const content = need(element, context(2), 'content of an entry');
  const [data, note] = [find(content, context(2)), find(content, context(3))];
  const list = data && find(data, context(1));
  const variables = (list === undefined ? [] : childrenOf(list)).map((one) => {
    const [value] = childrenOf(need(one, context(1), 'value of a variable'));
    if (value === undefined) throw new Malformed('a variable of an entry without its value');
    return {
      tag: charactersOf(octets, need(one, context(0), 'tag of a variable')),
      value: dataOf(octets, value),
    };
  });
  return {
    id: octetsOf(octets, need(element, context(0), 'number of an entry')),
    time: octetsOf(octets, need(content, context(0), 'time of an entry')),
    variables,
    ...(note === undefined ? {} : { note: charactersOf(octets, note) }),
  };
}

/** Each with its tag, its request and its response. */
export const JOURNALS = {
  readJournal: {
    tag: 65,
    request: { write: rangeNode, read: rangeOf },
    response: {
      write: (tag: number, { entries, more }: JournalServices['readJournal']['response']): Node =>
        constructed(tag, constructed(context(0), ...entries.map(entryNode)), boolean(context(1), more)),
      read: (octets: Uint8Array, element: Element): JournalServices['readJournal']['response'] => {
        const more = find(element, context(1));
        return {
          entries: childrenOf(need(element, context(0), 'list of entries')).map((one) => entryOf(octets, one)),
          more: more !== undefined && booleanOf(octets, more),
        };
      },
    },
  },
  initializeJournal: {
    tag: 67,
    request: {
      write: (tag: number, { name, upTo }: JournalServices['initializeJournal']['request']): Node =>
        constructed(
          tag,
          constructed(context(0), nameNode(name)),
          upTo === null
            ? null
            : constructed(
                context(1),
                primitive(context(0), upTo.time),
                upTo.entry === null ? null : primitive(context(1), upTo.entry),
              ),
        ),
      read: (octets: Uint8Array, element: Element): JournalServices['initializeJournal']['request'] => {
        const limit = find(element, context(1));
        const entry = limit && find(limit, context(1));
        return {
          name: nameIn(octets, element),
          upTo:
            limit === undefined
              ? null
              : {
                  time: octetsOf(octets, need(limit, context(0), 'time of the limit')),
                  entry: entry ? octetsOf(octets, entry) : null,
                },
        };
      },
    },
    response: {
      write: (tag: number, { deleted }: { deleted: number }): Node => integer(tag, deleted),
      read: (octets: Uint8Array, element: Element): { deleted: number } => ({
        deleted: numberOf(octets, element, 'a number of entries', 0, MAX_ENTRIES),
      }),
    },
  },
  journalStatus: {
    tag: 68,
    request: {
      write: (tag: number, { name }: { name: ObjectName }): Node => constructed(tag, nameNode(name)),
      read: (octets: Uint8Array, element: Element): { name: ObjectName } => ({
        name: nameOf(octets, childrenOf(element)[0]),
      }),
    },
    response: {
      write: (tag: number, { entries, deletable }: { entries: number; deletable: boolean }): Node =>
        constructed(tag, integer(context(0), entries), boolean(context(1), deletable)),
      read: (octets: Uint8Array, element: Element): { entries: number; deletable: boolean } => {
        const deletable = find(element, context(1));
        return {
          entries: numberOf(octets, need(element, context(0), 'entries'), 'a number of entries', 0, MAX_ENTRIES),
          deletable: deletable !== undefined && booleanOf(octets, deletable),
        };
      },
    },
  },
};
