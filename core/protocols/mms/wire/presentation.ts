import type { Result } from '../../../session/index.ts';
import {
  application,
  childrenOf,
  constructed,
  context,
  contentOf,
  encodeBer,
  encoded,
  find,
  integer,
  Malformed,
  need,
  numberOf,
  objectIdentifier,
  objectIdentifierOf,
  octetsOf,
  parseBer,
  primitive,
  reading,
  sequence,
  Universal,
  type Element,
  type Node,
} from './ber.ts';

/*
 * Presentation (ISO 8823-1, clause 8; ITU-T X.226), normal mode, with basic encoding of everything:
 *
 *   CP   SET { [0] mode { [0] 1 }, [2] { [1] calling, [2] called selector, [4] contexts, user data } }
 *   CPA  SET { [0] mode { [0] 1 }, [2] { [3] responding selector, [5] results, user data } }
 *   user data  [APPLICATION 1] { { context id INTEGER, [0] value } … }
 */

/** What is spoken in a context (ISO 9506-2, 5.4; ISO 8650-1, annex B). */
export const ABSTRACT = { acse: '2.2.1.0.1', mms: '1.0.9506.2.1' } as const;
const BASIC_ENCODING = '2.1.1';
const NORMAL_MODE = 1;

/** The contexts that we propose; a peer may give them other numbers. */
export const CONTEXTS: readonly Context[] = [
  { id: 1, abstract: ABSTRACT.acse },
  { id: 3, abstract: ABSTRACT.mms },
];

export interface Context {
  id: number;
  abstract: string;
}

/** A value of one context. */
export interface Value {
  context: number;
  octets: Uint8Array;
}

export interface PresentationConnect {
  calling?: Uint8Array;
  called?: Uint8Array;
  contexts: readonly Context[];
  user: Value;
}

export interface PresentationAccept {
  /** Of each context that was proposed: 0, it is taken. */
  results: readonly number[];
  user: Value;
}

const modeNode = constructed(context(0), integer(context(0), NORMAL_MODE));
const optional = (tag: number, octets: Uint8Array | undefined): Node | null =>
  octets === undefined ? null : primitive(tag, octets);

const userNode = ({ context: id, octets }: Value): Node =>
  constructed(application(1), sequence(integer(Universal.integer, id), constructed(context(0), encoded(octets))));

export const encodeUserData = (value: Value): Uint8Array => encodeBer(userNode(value));

export function encodeConnect({ calling, called, contexts, user }: PresentationConnect): Uint8Array {
  const definitions = contexts.map(({ id, abstract }) =>
    sequence(
      integer(Universal.integer, id),
      objectIdentifier(Universal.objectIdentifier, abstract),
      sequence(objectIdentifier(Universal.objectIdentifier, BASIC_ENCODING)),
    ),
  );
  return encodeBer(
    constructed(
      Universal.set,
      modeNode,
      constructed(
        context(2),
        optional(context(1), calling),
        optional(context(2), called),
        constructed(context(4), ...definitions),
        userNode(user),
      ),
    ),
  );
}

export function encodeAccept({ results, user }: PresentationAccept, responding?: Uint8Array): Uint8Array {
  const listed = results.map((result) =>
    sequence(
      integer(context(0), result),
      result === 0 ? objectIdentifier(context(1), BASIC_ENCODING) : integer(context(2), REASON_NOT_SUPPORTED),
    ),
  );
  return encodeBer(
    constructed(
      Universal.set,
      modeNode,
      constructed(context(2), optional(context(3), responding), constructed(context(5), ...listed), userNode(user)),
    ),
  );
}
/** Of a context that is not taken (8.2, provider-reason: abstract-syntax-not-supported). */
const REASON_NOT_SUPPORTED = 1;

function userOf(octets: Uint8Array, element: Element): Value {
  const [list] = childrenOf(element);
  if (list === undefined) throw new Malformed('user data with nothing in it');
  const id = need(list, Universal.integer, 'number of a context');
  const single = find(list, context(0));
  if (single !== undefined)
    return { context: numberOf(octets, id, 'a context', 0, 0x7fff), octets: contentOf(octets, single) };
  const aligned = need(list, context(1), 'value in the user data');
  return { context: numberOf(octets, id, 'a context', 0, 0x7fff), octets: octetsOf(octets, aligned) };
}

export const decodeUserData = (octets: Uint8Array): Result<Value, string> =>
  reading(() => {
    const element = parseBer(octets);
    if (element.tag !== application(1)) throw new Malformed('data that is not in the form of the presentation');
    return userOf(octets, element);
  });

function parametersOf(octets: Uint8Array): Element {
  const element = parseBer(octets);
  if (element.tag !== Universal.set) throw new Malformed('no presentation connect');
  const mode = find(element, context(0));
  const value = mode && find(mode, context(0));
  if (value !== undefined && numberOf(octets, value, 'a presentation mode', 0, 255) !== NORMAL_MODE)
    throw new Malformed('a presentation that is not in normal mode');
  return need(element, context(2), 'presentation parameters');
}

export const decodeConnect = (octets: Uint8Array): Result<PresentationConnect, string> =>
  reading(() => {
    const parameters = parametersOf(octets);
    const contexts = childrenOf(need(parameters, context(4), 'list of contexts')).map((one) => ({
      id: numberOf(octets, need(one, Universal.integer, 'number of a context'), 'a context', 0, 0x7fff),
      abstract: objectIdentifierOf(octets, need(one, Universal.objectIdentifier, 'name of a context')),
    }));
    const [calling, called] = [find(parameters, context(1)), find(parameters, context(2))];
    return {
      ...(calling ? { calling: octetsOf(octets, calling) } : {}),
      ...(called ? { called: octetsOf(octets, called) } : {}),
      contexts,
      user: userOf(octets, need(parameters, application(1), 'user data')),
    };
  });

export const decodeAccept = (octets: Uint8Array): Result<PresentationAccept, string> =>
  reading(() => {
    const parameters = parametersOf(octets);
    const results = childrenOf(need(parameters, context(5), 'results of the contexts')).map((one) =>
      numberOf(octets, need(one, context(0), 'result of a context'), 'a result', 0, 2),
    );
    return { results, user: userOf(octets, need(parameters, application(1), 'user data')) };
  });
