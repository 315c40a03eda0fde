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
  Universal,
  type Element,
  type Node,
} from './ber.ts';
import { identifier, nameNode, nameOf, type ObjectName } from './names.ts';
import { JOURNALS, type JournalServices } from './journals.ts';
import { dataNode, dataOf, resultNode, resultOf, typeNode, typeOf } from './data.ts';
import type { AccessResult, Data, TypeOf } from './data.ts';

/** Confirmed services, each with its request and its response (ISO 9506-2, clauses 10 to 18 and annex C). */

/** What is read, written or reported: variables one by one, or a list that has a name. */
export type Variables = { list: ObjectName; names?: undefined } | { list?: undefined; names: readonly Variable[] };

export interface Variable {
  name: ObjectName;
  /** A part of it: components by name, or one element. */
  part?: readonly (string | number)[];
}

export const CLASSES = { variable: 0, variableList: 2, journal: 8, domain: 9 } as const;
export type ObjectClass = keyof typeof CLASSES;

export interface FileAttributes {
  size: number;
  /** As it is sent: YYYYMMDDhhmmss.mmmZ; empty: not said. */
  modified: string;
}

export interface Services extends JournalServices {
  status: { request: { extended: boolean }; response: { logical: number; physical: number } };
  nameList: {
    request: { class: ObjectClass; domain: string | null; after: string | null };
    response: { names: readonly string[]; more: boolean };
  };
  identify: { request: object; response: { vendor: string; model: string; revision: string } };
  read: { request: { variables: Variables }; response: { results: readonly AccessResult[] } };
  write: {
    request: { variables: Variables; values: readonly Data[] };
    /** Null: done; otherwise the error. */
    response: { results: readonly (number | null)[] };
  };
  attributes: { request: { name: ObjectName }; response: { deletable: boolean; of: TypeOf } };
  defineList: { request: { name: ObjectName; names: readonly Variable[] }; response: object };
  listAttributes: { request: { name: ObjectName }; response: { deletable: boolean; names: readonly Variable[] } };
  deleteList: { request: { names: readonly ObjectName[] }; response: { matched: number; deleted: number } };
  obtainFile: { request: { source: string; destination: string }; response: object };
  fileOpen: { request: { name: string; from: number }; response: { handle: number; attributes: FileAttributes } };
  fileRead: { request: { handle: number }; response: { data: Uint8Array; more: boolean } };
  fileClose: { request: { handle: number }; response: object };
  fileDelete: { request: { name: string }; response: object };
  fileDirectory: {
    request: { name: string; after: string };
    response: { entries: readonly { name: string; attributes: FileAttributes }[]; more: boolean };
  };
}
export type ServiceName = keyof Services;
type Request<Name extends ServiceName> = Services[Name]['request'];
type Response<Name extends ServiceName> = Services[Name]['response'];

/** How a service is carried: its tag, the nodes of its request and its response, and back. */
interface Form<Name extends ServiceName> {
  tag: number;
  request: {
    write: (tag: number, request: Request<Name>) => Node;
    read: (octets: Uint8Array, of: Element) => Request<Name>;
  };
  response: {
    write: (tag: number, response: Response<Name>) => Node;
    read: (octets: Uint8Array, of: Element) => Response<Name>;
  };
}

const nothing = {
  write: (tag: number): Node => primitive(tag, new Uint8Array()),
  read: (): object => ({}),
};
const MAX_UNSIGNED = 0xffff_ffff;

// ---- variables

/** Alternate access to a part: a component [1], or an element [2] (ISO 9506-2, 14.4.1: AlternateAccess). */
function partNode(part: readonly (string | number)[]): Node {
  const [first, ...rest] = part;
  const selected = typeof first === 'string' ? characters(context(1), first) : integer(context(2), first);
  if (rest.length === 0) return selected;
  // selectAlternateAccess: accessSelection and what is chosen in it.
  const selection = typeof first === 'string' ? characters(context(0), first) : integer(context(1), first);
  return constructed(context(0), selection, sequence(partNode(rest)));
}

const variableNode = ({ name, part }: Variable): Node =>
  sequence(
    constructed(context(0), nameNode(name)),
    part === undefined || part.length === 0 ? null : constructed(context(5), partNode(part)),
  );

function partOf(octets: Uint8Array, element: Element | undefined): (string | number)[] {
  switch (element?.tag) {
    case context(1):
      return [charactersOf(octets, element)];
    case context(2):
      return [numberOf(octets, element, 'an element', 0, MAX_UNSIGNED)];
    case context(0): {
      const [selection, inside] = childrenOf(element);
      if (selection === undefined || inside === undefined) throw new Malformed('an access to a part without the part');
      const first =
        selection.tag === context(0)
          ? charactersOf(octets, selection)
          : numberOf(octets, selection, 'an element', 0, MAX_UNSIGNED);
      return [first, ...partOf(octets, childrenOf(inside)[0])];
    }
    default:
      throw new Malformed('an access to a part in a way that is not known here');
  }
}

function variableOf(octets: Uint8Array, element: Element): Variable {
  const name = nameOf(octets, childrenOf(need(element, context(0), 'name of a variable'))[0]);
  const alternate = find(element, context(5));
  return alternate === undefined ? { name } : { name, part: partOf(octets, childrenOf(alternate)[0]) };
}

export const variablesNode = (variables: Variables): Node =>
  variables.list === undefined
    ? constructed(context(0), ...variables.names.map(variableNode))
    : constructed(context(1), nameNode(variables.list));

export function variablesOf(octets: Uint8Array, element: Element | undefined): Variables {
  if (element?.tag === context(1)) return { list: nameOf(octets, childrenOf(element)[0]) };
  if (element?.tag !== context(0)) throw new Malformed('no variables');
  return { names: childrenOf(element).map((one) => variableOf(octets, one)) };
}

// ---- files

const fileName = (tag: number, name: string): Node => constructed(tag, characters(Universal.graphicString, name));
const fileNameOf = (octets: Uint8Array, element: Element): string =>
  childrenOf(element)
    .map((part) => charactersOf(octets, part))
    .join('/');

const attributesNode = (tag: number, { size, modified }: FileAttributes): Node =>
  constructed(tag, integer(context(0), size), modified === '' ? null : characters(context(1), modified));
function attributesOf(octets: Uint8Array, element: Element): FileAttributes {
  const modified = find(element, context(1));
  return {
    size: numberOf(octets, need(element, context(0), 'size of a file'), 'a size', 0, MAX_UNSIGNED),
    modified: modified ? charactersOf(octets, modified) : '',
  };
}

const flagOf = (octets: Uint8Array, element: Element, tag: number, otherwise: boolean): boolean => {
  const flag = find(element, tag);
  return flag === undefined ? otherwise : booleanOf(octets, flag);
};

const handle = {
  write: (tag: number, { handle: number }: { handle: number }): Node => integer(tag, number),
  read: (octets: Uint8Array, element: Element): { handle: number } => ({
    handle: numberOf(octets, element, 'a handle', -0x8000_0000, 0x7fff_ffff),
  }),
};

// ---- the services

export const SERVICES: { readonly [Name in ServiceName]: Form<Name> } = {
  ...JOURNALS,
  status: {
    tag: 0,
    request: {
      write: (tag, { extended }) => boolean(tag, extended),
      read: (octets, element) => ({ extended: booleanOf(octets, element) }),
    },
    response: {
      write: (tag, { logical, physical }) =>
        constructed(tag, integer(context(0), logical), integer(context(1), physical)),
      read: (octets, element) => ({
        logical: numberOf(octets, need(element, context(0), 'logical status'), 'a status', 0, 255),
        physical: numberOf(octets, need(element, context(1), 'physical status'), 'a status', 0, 255),
      }),
    },
  },
  nameList: {
    tag: 1,
    request: {
      write: (tag, { class: of, domain, after }) =>
        constructed(
          tag,
          constructed(context(0), integer(context(0), CLASSES[of])),
          constructed(
            context(1),
            domain === null ? primitive(context(0), new Uint8Array()) : characters(context(1), domain),
          ),
          after === null ? null : characters(context(2), after),
        ),
      read: (octets, element) => {
        const number = childrenOf(need(element, context(0), 'class of objects'))[0];
        const code = number && numberOf(octets, number, 'a class of objects', 0, 255);
        const of = (Object.keys(CLASSES) as ObjectClass[]).find((one) => CLASSES[one] === code);
        if (of === undefined) throw new Malformed(`objects of class ${code}`);
        const scope = childrenOf(need(element, context(1), 'scope of objects'))[0];
        const after = find(element, context(2));
        return {
          class: of,
          domain: scope?.tag === context(1) ? charactersOf(octets, scope) : null,
          after: after ? charactersOf(octets, after) : null,
        };
      },
    },
    response: {
      write: (tag, { names, more }) =>
        constructed(tag, constructed(context(0), ...names.map(identifier)), boolean(context(1), more)),
      read: (octets, element) => ({
        names: childrenOf(need(element, context(0), 'list of names')).map((one) => charactersOf(octets, one)),
        more: flagOf(octets, element, context(1), true),
      }),
    },
  },
  identify: {
    tag: 2,
    request: nothing,
    response: {
      write: (tag, { vendor, model, revision }) =>
        constructed(tag, ...[vendor, model, revision].map((text, at) => characters(context(at), text))),
      read: (octets, element) => {
        const [vendor, model, revision] = [0, 1, 2].map((at) => {
          const found = find(element, context(at));
          return found ? charactersOf(octets, found) : '';
        });
        return { vendor, model, revision };
      },
    },
  },
  read: {
    tag: 4,
    request: {
      write: (tag, { variables }) => constructed(tag, constructed(context(1), variablesNode(variables))),
      read: (octets, element) => ({
        variables: variablesOf(octets, childrenOf(need(element, context(1), 'variables'))[0]),
      }),
    },
    response: {
      write: (tag, { results }) => constructed(tag, constructed(context(1), ...results.map(resultNode))),
      read: (octets, element) => ({
        results: childrenOf(need(element, context(1), 'results')).map((one) => resultOf(octets, one)),
      }),
    },
  },
  write: {
    tag: 5,
    request: {
      write: (tag, { variables, values }) =>
        constructed(tag, variablesNode(variables), constructed(context(0), ...values.map(dataNode))),
      read: (octets, element) => {
        const [variables, values] = childrenOf(element);
        if (values?.tag !== context(0)) throw new Malformed('a write without values');
        return {
          variables: variablesOf(octets, variables),
          values: childrenOf(values).map((one) => dataOf(octets, one)),
        };
      },
    },
    response: {
      write: (tag, { results }) =>
        constructed(
          tag,
          ...results.map((error) =>
            error === null ? primitive(context(1), new Uint8Array()) : integer(context(0), error),
          ),
        ),
      read: (octets, element) => ({
        results: childrenOf(element).map((one) =>
          one.tag === context(1) ? null : numberOf(octets, one, 'an access error', 0, 255),
        ),
      }),
    },
  },
  attributes: {
    tag: 6,
    request: {
      write: (tag, { name }) => constructed(tag, constructed(context(0), nameNode(name))),
      read: (octets, element) => ({
        name: nameOf(octets, childrenOf(need(element, context(0), 'name of a variable'))[0]),
      }),
    },
    response: {
      write: (tag, { deletable, of }) =>
        constructed(tag, boolean(context(0), deletable), constructed(context(2), typeNode(of))),
      read: (octets, element) => {
        const [of] = childrenOf(need(element, context(2), 'type of the variable'));
        if (of === undefined) throw new Malformed('no type of the variable');
        return { deletable: flagOf(octets, element, context(0), false), of: typeOf(octets, of) };
      },
    },
  },
  defineList: {
    tag: 11,
    request: {
      write: (tag, { name, names }) =>
        constructed(tag, nameNode(name), constructed(context(0), ...names.map(variableNode))),
      read: (octets, element) => {
        const [name, names] = childrenOf(element);
        if (names?.tag !== context(0)) throw new Malformed('a list without variables');
        return { name: nameOf(octets, name), names: childrenOf(names).map((one) => variableOf(octets, one)) };
      },
    },
    response: nothing,
  },
  listAttributes: {
    tag: 12,
    request: {
      write: (tag, { name }) => constructed(tag, nameNode(name)),
      read: (octets, element) => ({ name: nameOf(octets, childrenOf(element)[0]) }),
    },
    response: {
      write: (tag, { deletable, names }) =>
        constructed(tag, boolean(context(0), deletable), constructed(context(1), ...names.map(variableNode))),
      read: (octets, element) => ({
        deletable: flagOf(octets, element, context(0), false),
        names: childrenOf(need(element, context(1), 'variables of the list')).map((one) => variableOf(octets, one)),
      }),
    },
  },
  deleteList: {
    tag: 13,
    request: {
      write: (tag, { names }) => constructed(tag, constructed(context(1), ...names.map(nameNode))),
      read: (octets, element) => ({
        names: childrenOf(need(element, context(1), 'names of lists')).map((one) => nameOf(octets, one)),
      }),
    },
    response: {
      write: (tag, { matched, deleted }) =>
        constructed(tag, integer(context(0), matched), integer(context(1), deleted)),
      read: (octets, element) => {
        const [matched, deleted] = [0, 1].map((at) =>
          numberOf(octets, need(element, context(at), 'number of lists'), 'a number of lists', 0, MAX_UNSIGNED),
        );
        return { matched, deleted };
      },
    },
  },
  obtainFile: {
    tag: 46,
    request: {
      write: (tag, { source, destination }) =>
        constructed(tag, fileName(context(1), source), fileName(context(2), destination)),
      read: (octets, element) => ({
        source: fileNameOf(octets, need(element, context(1), 'name of the file')),
        destination: fileNameOf(octets, need(element, context(2), 'name for the file')),
      }),
    },
    response: nothing,
  },
  fileOpen: {
    tag: 72,
    request: {
      write: (tag, { name, from }) => constructed(tag, fileName(context(0), name), integer(context(1), from)),
      read: (octets, element) => ({
        name: fileNameOf(octets, need(element, context(0), 'name of the file')),
        from: numberOf(octets, need(element, context(1), 'position'), 'a position', 0, MAX_UNSIGNED),
      }),
    },
    response: {
      write: (tag, { handle: number, attributes }) =>
        constructed(tag, integer(context(0), number), attributesNode(context(1), attributes)),
      read: (octets, element) => ({
        ...handle.read(octets, need(element, context(0), 'handle')),
        attributes: attributesOf(octets, need(element, context(1), 'attributes of the file')),
      }),
    },
  },
  fileRead: {
    tag: 73,
    request: handle,
    response: {
      write: (tag, { data, more }) => constructed(tag, primitive(context(0), data), boolean(context(1), more)),
      read: (octets, element) => ({
        data: octetsOf(octets, need(element, context(0), 'octets of the file')),
        more: flagOf(octets, element, context(1), true),
      }),
    },
  },
  fileClose: { tag: 74, request: handle, response: nothing },
  fileDelete: {
    tag: 76,
    request: {
      write: (tag, { name }) => fileName(tag, name),
      read: (octets, element) => ({ name: fileNameOf(octets, element) }),
    },
    response: nothing,
  },
  fileDirectory: {
    tag: 77,
    request: {
      write: (tag, { name, after }) =>
        constructed(
          tag,
          name === '' ? null : fileName(context(0), name),
          after === '' ? null : fileName(context(1), after),
        ),
      read: (octets, element) => {
        const [name, after] = [find(element, context(0)), find(element, context(1))];
        return { name: name ? fileNameOf(octets, name) : '', after: after ? fileNameOf(octets, after) : '' };
      },
    },
    response: {
      write: (tag, { entries, more }) =>
        constructed(
          tag,
          constructed(
            context(0),
            sequence(
              ...entries.map(({ name, attributes }) =>
                sequence(fileName(context(0), name), attributesNode(context(1), attributes)),
              ),
            ),
          ),
          boolean(context(1), more),
        ),
      read: (octets, element) => {
        const [list] = childrenOf(need(element, context(0), 'list of files'));
        const entries = (list === undefined ? [] : childrenOf(list)).map((one) => ({
          name: fileNameOf(octets, need(one, context(0), 'name of a file')),
          attributes: attributesOf(octets, need(one, context(1), 'attributes of a file')),
        }));
        return { entries, more: flagOf(octets, element, context(1), false) };
      },
    },
  },
};
