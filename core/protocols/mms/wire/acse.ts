import type { Result } from '../../../session/index.ts';
import {
  application,
  bitString,
  childrenOf,
  characters,
  charactersOf,
  constructed,
  contentOf,
  context,
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
  reading,
  Universal,
  type Element,
  type Node,
} from './ber.ts';

/*
 * Association control (ISO 8650-1, clause 9; ITU-T X.227):
 *
 *   AARQ [APPLICATION 0]  [1] context name, [2] [3] called title and qualifier, [6] [7] calling ones,
 *                         [10] requirements, [11] mechanism, [12] password, [30] user information
 *   AARE [APPLICATION 1]  [1] context name, [2] result, [3] diagnostic, [30] user information
 *   RLRQ [2]  RLRE [3]  [0] reason   ABRT [4]  [0] source
 */

/** The context name of MMS (ISO 9506-2, 5.5). */
const MMS_CONTEXT = '1.0.9506.2.3';
/** A password in plain text (ISO 8650-1, annex B: simple authentication). */
const PASSWORD_MECHANISM = '2.2.3.1';
const GRAPHIC_STRING = context(0);

/** Who somebody is, where more than addresses tell: an object identifier and a number. */
export interface Title {
  title: string;
  qualifier: number | null;
}

export interface AssociateRequest {
  type: 'associate';
  called: Title | null;
  calling: Title | null;
  password: string | null;
  user: Uint8Array;
}

export interface AssociateResponse {
  type: 'associated';
  /** 0: taken, 1: refused for good, 2: refused for now. */
  result: number;
  /** Whose reason it is, and which. */
  source: 'user' | 'provider';
  diagnostic: number;
  user: Uint8Array;
}

export type Apdu =
  | AssociateRequest
  | AssociateResponse
  | { type: 'release' | 'released'; reason: number }
  | { type: 'aborted'; byUser: boolean };

const TAG = { associate: 0, associated: 1, release: 2, released: 3, aborted: 4 } as const;

/** User information: an EXTERNAL of the context of MMS. */
const userNode = (contextId: number, user: Uint8Array): Node =>
  constructed(
    context(30),
    constructed(Universal.external, integer(Universal.integer, contextId), constructed(context(0), encoded(user))),
  );

const titleNodes = (title: Title | null, at: number): (Node | null)[] => [
  title && constructed(context(at), objectIdentifier(Universal.objectIdentifier, title.title)),
  title === null || title.qualifier === null
    ? null
    : constructed(context(at + 1), integer(Universal.integer, title.qualifier)),
];

/** `contextId`: the presentation context of MMS. */
export function encodeApdu(apdu: Apdu, contextId: number): Uint8Array {
  const name = constructed(context(1), objectIdentifier(Universal.objectIdentifier, MMS_CONTEXT));
  switch (apdu.type) {
    case 'associate': {
      const { called, calling, password, user } = apdu;
      const authentication =
        password === null
          ? []
          : [
              // The functional unit authentication.
              bitString(context(10), [true]),
              objectIdentifier(context(11), PASSWORD_MECHANISM),
              constructed(context(12), characters(GRAPHIC_STRING, password)),
            ];
      return encodeBer(
        constructed(
          application(TAG.associate),
          name,
          ...titleNodes(called, 2),
          ...titleNodes(calling, 6),
          ...authentication,
          userNode(contextId, user),
        ),
      );
    }
    case 'associated': {
      const { result, source, diagnostic, user } = apdu;
      return encodeBer(
        constructed(
          application(TAG.associated),
          name,
          constructed(context(2), integer(Universal.integer, result)),
          constructed(
            context(3),
            constructed(context(source === 'user' ? 1 : 2), integer(Universal.integer, diagnostic)),
          ),
          user.length > 0 ? userNode(contextId, user) : null,
        ),
      );
    }
    case 'release':
    case 'released':
      return encodeBer(constructed(application(TAG[apdu.type]), integer(context(0), apdu.reason)));
    case 'aborted':
      return encodeBer(constructed(application(TAG.aborted), integer(context(0), apdu.byUser ? 0 : 1)));
    default:
      return apdu satisfies never;
  }
}

export const decodeApdu = (octets: Uint8Array): Result<Apdu, string> => reading(() => apduOf(octets));

function apduOf(octets: Uint8Array): Apdu {
  const element = parseBer(octets);
  switch (element.tag) {
    case application(TAG.associate): {
      const name = childrenOf(need(element, context(1), 'name of what is to be spoken'))[0];
      if (name === undefined || objectIdentifierOf(octets, name) !== MMS_CONTEXT)
        throw new Malformed('an association for something else than MMS');
      const secret = find(element, context(12));
      const text = secret && find(secret, GRAPHIC_STRING);
      return {
        type: 'associate',
        called: titleOf(octets, element, 2),
        calling: titleOf(octets, element, 6),
        password: text ? charactersOf(octets, text) : null,
        user: userOf(octets, element),
      };
    }
    case application(TAG.associated): {
      const result = inner(octets, need(element, context(2), 'result of the association'));
      const [said] = childrenOf(need(element, context(3), 'reason of the result'));
      if (said === undefined) throw new Malformed('no reason of the result');
      const isUser = said.tag === context(1);
      const user = find(element, context(30)) === undefined ? new Uint8Array() : userOf(octets, element);
      return {
        ...{ type: 'associated', result, source: isUser ? 'user' : 'provider' },
        ...{ diagnostic: inner(octets, said), user },
      };
    }
    case application(TAG.release):
    case application(TAG.released): {
      const reason = find(element, context(0));
      const type = element.tag === application(TAG.release) ? 'release' : 'released';
      return { type, reason: reason ? numberOf(octets, reason, 'a reason', 0, 255) : 0 };
    }
    case application(TAG.aborted): {
      const source = find(element, context(0));
      return { type: 'aborted', byUser: source === undefined || numberOf(octets, source, 'a source', 0, 255) === 0 };
    }
    default:
      throw new Malformed('no message of association control');
  }
}

function inner(octets: Uint8Array, element: Element): number {
  return numberOf(octets, need(element, Universal.integer, 'number'), 'a number', 0, 255);
}

function titleOf(octets: Uint8Array, element: Element, at: number): Title | null {
  const [named] = childrenOf(find(element, context(at)) ?? NOTHING);
  if (named?.tag !== Universal.objectIdentifier) return null;
  const [qualifier] = childrenOf(find(element, context(at + 1)) ?? NOTHING);
  return {
    title: objectIdentifierOf(octets, named),
    qualifier:
      qualifier?.tag === Universal.integer
        ? numberOf(octets, qualifier, 'a qualifier', -0x8000_0000, 0x7fff_ffff)
        : null,
  };
}
const NOTHING: Element = { tag: 0, at: 0, contentAt: 0, contentEnd: 0, end: 0, children: [] };

function userOf(octets: Uint8Array, element: Element): Uint8Array {
  const [external] = childrenOf(need(element, context(30), 'user information'));
  if (external === undefined) throw new Malformed('no user information');
  const single = find(external, context(0));
  if (single !== undefined) return contentOf(octets, single);
  return octetsOf(octets, need(external, context(1), 'value in the user information'));
}

/** Reasons of a user (ISO 8650-1, 9.1.2: acse-service-user), as far as people can do something about them. */
const DIAGNOSTICS: Record<number, string> = {
  1: 'no reason said',
  2: 'the application context is not supported there',
  3: 'our title is not known there',
  4: 'our title is not known there',
  6: 'our qualifier is not known there',
  7: 'the title that we called is not known there',
  10: 'the qualifier that we called is not known there',
  11: 'the way of authentication is not known there',
  12: 'a way of authentication is needed',
  13: 'the password is wrong',
  14: 'a password is needed',
};
export const diagnosticWords = ({ source, diagnostic }: AssociateResponse): string =>
  source === 'user'
    ? (DIAGNOSTICS[diagnostic] ?? `reason ${diagnostic}`)
    : diagnostic === 2
      ? 'no common version'
      : 'no reason said';
