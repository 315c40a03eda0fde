import type { Result } from '../../../session/index.ts';
import {
  bitsOf,
  bitString,
  characters,
  charactersOf,
  childrenOf,
  constructed,
  context,
  encodeBer,
  find,
  integer,
  Malformed,
  need,
  numberOf,
  parseBer,
  primitive,
  reading,
  Universal,
  type Element,
  type Node,
} from './ber.ts';
import { resultNode, resultOf, type AccessResult } from './data.ts';
import { SERVICES, variablesNode, variablesOf, type ServiceName, type Services, type Variables } from './services.ts';

/*
 * The messages of MMS (ISO 9506-2, clause 7): MMSpdu ::= CHOICE
 *
 *   [0] confirmed request   { invoke id, service }   [1] response   [2] error   [3] unconfirmed   [4] reject
 *   [5] cancel  [6] cancelled  [7] its error   [8] initiate  [9] its response  [10] its error
 *   [11] conclude  [12] concluded  [13] its error
 */

/** What both ends of an association agree on. */
export interface Negotiated {
  /** Octets of a message at most; null: not limited. */
  size: number | null;
  /** Requests that may be under way from whoever calls, and from whoever is called. */
  calling: number;
  called: number;
  nesting: number | null;
  parameters: readonly (typeof PARAMETERS)[number][];
  services: readonly number[];
}

/** Conformance parameters, by their bits (ISO 9506-2, 7.5.4.2). */
export const PARAMETERS = [
  'str1',
  'str2',
  'vnam',
  'valt',
  'vadr',
  'vsca',
  'tpy',
  'vlis',
  'real',
  'spare',
  'cei',
] as const;
const VERSION = 1;
/** Bits of the services that can be supported (7.5.4.3). */
const SERVICE_BITS = 85;
export const ServiceBit = {
  status: 0,
  nameList: 1,
  identify: 2,
  read: 4,
  write: 5,
  attributes: 6,
  defineList: 11,
  listAttributes: 12,
  deleteList: 13,
  obtainFile: 46,
  readJournal: 65,
  initializeJournal: 67,
  journalStatus: 68,
  fileOpen: 72,
  fileRead: 73,
  fileClose: 74,
  fileDelete: 76,
  fileDirectory: 77,
  unsolicitedStatus: 78,
  informationReport: 79,
  conclude: 83,
  cancel: 84,
} as const;

export interface ServiceError {
  class: number;
  code: number;
  words: string;
}

export type ConfirmedRequest = {
  [Name in ServiceName]: { service: Name; request: Services[Name]['request'] };
}[ServiceName];
export type ConfirmedResponse = {
  [Name in ServiceName]: { service: Name; response: Services[Name]['response'] };
}[ServiceName];

export type Pdu =
  | ({ type: 'request'; invoke: number } & ConfirmedRequest)
  /** A request for a service that is not known here, by its tag. */
  | { type: 'unknownRequest'; invoke: number; tag: number }
  | ({ type: 'response'; invoke: number } & ConfirmedResponse)
  | { type: 'error'; invoke: number; error: ServiceError }
  | { type: 'report'; variables: Variables; results: readonly AccessResult[] }
  /** `kind`: of what, by its tag; 1 a confirmed request, 5 a message that is none. */
  | { type: 'reject'; invoke: number | null; kind: number; code: number }
  | { type: 'cancel' | 'cancelled'; invoke: number }
  | { type: 'cancelError'; invoke: number; error: ServiceError }
  | { type: 'initiate' | 'initiated'; agreement: Negotiated }
  | { type: 'initiateError' | 'concludeError'; error: ServiceError }
  | { type: 'conclude' | 'concluded' };

const MAX_INVOKE = 0xffff_ffff;
const NAMES = Object.keys(SERVICES) as ServiceName[];

// ---- writing

const invokeNode = (invoke: number): Node => integer(Universal.integer, invoke);
const errorNode = (tag: number, { class: of, code, words }: ServiceError): Node =>
  constructed(
    tag,
    constructed(context(0), integer(context(of), code)),
    words === '' ? null : characters(context(2), words),
  );

function agreementNode(tag: number, { size, calling, called, nesting, parameters, services }: Negotiated): Node {
  const supported = Array.from({ length: SERVICE_BITS }, (_, bit) => services.includes(bit));
  return constructed(
    tag,
    size === null ? null : integer(context(0), size),
    integer(context(1), calling),
    integer(context(2), called),
    nesting === null ? null : integer(context(3), nesting),
    constructed(
      context(4),
      integer(context(0), VERSION),
      bitString(
        context(1),
        PARAMETERS.map((one) => parameters.includes(one)),
      ),
      bitString(context(2), supported),
    ),
  );
}

function node(pdu: Pdu): Node {
  switch (pdu.type) {
    case 'request':
      return constructed(context(0), invokeNode(pdu.invoke), requestNode(pdu));
    case 'unknownRequest':
      return constructed(context(0), invokeNode(pdu.invoke), primitive(context(pdu.tag), new Uint8Array()));
    case 'response':
      return constructed(context(1), invokeNode(pdu.invoke), responseNode(pdu));
    case 'error':
      return constructed(context(2), integer(context(0), pdu.invoke), errorNode(context(2), pdu.error));
    case 'report':
      return constructed(
        context(3),
        constructed(context(0), variablesNode(pdu.variables), constructed(context(0), ...pdu.results.map(resultNode))),
      );
    case 'reject':
      return constructed(
        context(4),
        pdu.invoke === null ? null : integer(context(0), pdu.invoke),
        integer(context(pdu.kind), pdu.code),
      );
    case 'cancel':
      return integer(context(5), pdu.invoke);
    case 'cancelled':
      return integer(context(6), pdu.invoke);
    case 'cancelError':
      return constructed(context(7), integer(context(0), pdu.invoke), errorNode(context(1), pdu.error));
    case 'initiate':
      return agreementNode(context(8), pdu.agreement);
    case 'initiated':
      return agreementNode(context(9), pdu.agreement);
    case 'initiateError':
      return errorNode(context(10), pdu.error);
    case 'conclude':
      return primitive(context(11), new Uint8Array());
    case 'concluded':
      return primitive(context(12), new Uint8Array());
    case 'concludeError':
      return errorNode(context(13), pdu.error);
    default:
      return pdu satisfies never;
  }
}

type Write = (tag: number, value: unknown) => Node;
const requestNode = ({ service, request }: ConfirmedRequest): Node => {
  const form = SERVICES[service];
  return (form.request.write as Write)(context(form.tag), request);
};
const responseNode = ({ service, response }: ConfirmedResponse): Node => {
  const form = SERVICES[service];
  return (form.response.write as Write)(context(form.tag), response);
};

export const encodePdu = (pdu: Pdu): Uint8Array => encodeBer(node(pdu));

// ---- reading

const invokeOf = (octets: Uint8Array, element: Element): number =>
  numberOf(octets, element, 'the number of a request', 0, MAX_INVOKE);

function errorOf(octets: Uint8Array, element: Element | undefined): ServiceError {
  if (element === undefined) throw new Malformed('an error that does not say which');
  const [said] = childrenOf(need(element, context(0), 'class of the error'));
  if (said === undefined) throw new Malformed('no class of the error');
  const words = find(element, context(2));
  return {
    class: said.tag - context(0),
    code: numberOf(octets, said, 'an error', -0x8000_0000, 0x7fff_ffff),
    words: words ? charactersOf(octets, words) : '',
  };
}

function agreementOf(octets: Uint8Array, element: Element): Negotiated {
  const optional = (tag: number, most: number): number | null => {
    const found = find(element, context(tag));
    return found === undefined ? null : numberOf(octets, found, 'what is proposed', 0, most);
  };
  const detail = need(element, context(4), 'detail of the initiation');
  const parameters = bitsOf(octets, need(detail, context(1), 'parameters'));
  const services = bitsOf(octets, need(detail, context(2), 'services'));
  return {
    size: optional(0, 0x7fff_ffff),
    calling: optional(1, 0x7fff) ?? 1,
    called: optional(2, 0x7fff) ?? 1,
    nesting: optional(3, 0x7f),
    parameters: PARAMETERS.filter((_, at) => parameters[at]),
    services: services.flatMap((is, at) => (is ? [at] : [])),
  };
}

export const decodePdu = (octets: Uint8Array): Result<Pdu, string> => reading(() => pduOf(octets));

function pduOf(octets: Uint8Array): Pdu {
  const element = parseBer(octets);
  switch (element.tag) {
    case context(0): {
      const [invoke, service] = confirmedParts(element);
      const name = NAMES.find((one) => context(SERVICES[one].tag) === service.tag);
      const head = { type: 'request' as const, invoke: invokeOf(octets, invoke) };
      if (name === undefined) return { ...head, type: 'unknownRequest', tag: service.tag - context(0) };
      return { ...head, service: name, request: SERVICES[name].request.read(octets, service) } as Pdu;
    }
    case context(1): {
      const [invoke, service] = confirmedParts(element);
      const name = NAMES.find((one) => context(SERVICES[one].tag) === service.tag);
      if (name === undefined) throw new Malformed('a response of a service that nobody asked for');
      const response = SERVICES[name].response.read(octets, service);
      return { type: 'response', invoke: invokeOf(octets, invoke), service: name, response } as Pdu;
    }
    case context(2): {
      const invoke = invokeOf(octets, need(element, context(0), 'number of the request'));
      return { type: 'error', invoke, error: errorOf(octets, find(element, context(2))) };
    }
    case context(3): {
      const report = need(element, context(0), 'report');
      const [variables, results] = childrenOf(report);
      if (results?.tag !== context(0)) throw new Malformed('a report without values');
      return {
        type: 'report',
        variables: variablesOf(octets, variables),
        results: childrenOf(results).map((one) => resultOf(octets, one)),
      };
    }
    case context(4): {
      const parts = childrenOf(element);
      const reason = parts.at(-1);
      if (reason === undefined) throw new Malformed('a reject without a reason');
      const [invoke] = parts.length > 1 ? parts : [];
      return {
        type: 'reject',
        invoke: invoke ? invokeOf(octets, invoke) : null,
        kind: reason.tag - context(0),
        code: numberOf(octets, reason, 'a reason', -128, 255),
      };
    }
    case context(5):
      return { type: 'cancel', invoke: invokeOf(octets, element) };
    case context(6):
      return { type: 'cancelled', invoke: invokeOf(octets, element) };
    case context(7): {
      const invoke = invokeOf(octets, need(element, context(0), 'number of the request'));
      return { type: 'cancelError', invoke, error: errorOf(octets, find(element, context(1))) };
    }
    case context(8):
      return { type: 'initiate', agreement: agreementOf(octets, element) };
    case context(9):
      return { type: 'initiated', agreement: agreementOf(octets, element) };
    case context(10):
      return { type: 'initiateError', error: errorOf(octets, element) };
    case context(11):
      return { type: 'conclude' };
    case context(12):
      return { type: 'concluded' };
    case context(13):
      return { type: 'concludeError', error: errorOf(octets, element) };
    default:
      throw new Malformed('no message of MMS');
  }
}

/** The invoke id and the service; modifiers, which nobody here agrees on, may stand between. */
function confirmedParts(element: Element): [invoke: Element, service: Element] {
  const parts = childrenOf(element);
  const [invoke, service] = [parts[0], parts.at(-1)];
  if (invoke?.tag !== Universal.integer || service === undefined || parts.length < 2)
    throw new Malformed('a confirmed message without its number and its service');
  return [invoke, service];
}

/** Classes of errors (ISO 9506-2, 7.4.2: ServiceError), as far as devices use them. */
const ERROR_CLASSES: Record<number, string> = {
  0: 'state of the device',
  1: 'application',
  2: 'definition',
  3: 'resource',
  4: 'service',
  5: 'preempted',
  6: 'time',
  7: 'access',
  8: 'initiate',
  9: 'conclude',
  10: 'cancel',
  11: 'file',
  12: 'other',
};
const ERROR_WORDS: Record<string, string> = {
  '2 1': 'the object is not defined',
  '2 2': 'the address is not valid',
  '2 3': 'the type is not supported',
  '2 4': 'the type does not fit',
  '2 5': 'there is one already',
  '2 6': 'an attribute does not fit',
  '3 0': 'other',
  '3 1': 'no memory left',
  '4 1': 'not in this order',
  '4 2': 'its state does not allow that',
  '4 3': 'larger than agreed on',
  '4 5': 'more or less than it takes',
  '7 0': 'other',
  '7 1': 'this access is not supported',
  '7 2': 'no such object',
  '7 3': 'access denied',
  '7 4': 'the object is not valid any more',
  '11 4': 'the position is not valid',
  '11 6': 'access denied',
  '11 7': 'no such file',
};
export function errorWords({ class: of, code, words }: ServiceError): string {
  const known = ERROR_WORDS[`${of} ${code}`] ?? `${ERROR_CLASSES[of] ?? `class ${of}`} ${code}`;
  return words === '' ? known : `${known} (${words})`;
}
