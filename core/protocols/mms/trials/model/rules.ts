import { type Data } from '../../wire/data.ts';
import type { Pdu } from '../../wire/pdu.ts';
import type { Variables } from '../../wire/services.ts';
import { mapped, refusal, rejection, type Quirks, type Verdict } from './odd.ts';

/* What a foreign server does with requests, and with what it says, by what they are about. */

type Request = Pdu & { type: 'request' };
type Rule = (request: Request) => Verdict;

/** The objects that a request is about, as they are named: `HLM/GGIO1$ST$Ind1`. */
const namesOf = (request: Request): string[] => {
  const named = (variables: Variables): string[] =>
    variables.list ? [wordsOf(variables.list)] : (variables.names ?? []).map(({ name }) => wordsOf(name));
  switch (request.service) {
    case 'read':
    case 'write':
      return named(request.request.variables);
    case 'attributes':
    case 'listAttributes':
    case 'defineList':
      return [wordsOf(request.request.name)];
    default:
      return [];
  }
};
const wordsOf = (name: object): string => {
  const { domain, item } = name as { domain?: string; item?: string };
  return domain === undefined ? String(Object.values(name).at(-1)) : `${domain}/${item}`;
};

/** Requests of a service about something are answered like that. */
export const when =
  (services: readonly Request['service'][], about: RegExp, verdict: (request: Request) => Verdict): Rule =>
  (request) =>
    services.includes(request.service) &&
    (namesOf(request).length === 0 || namesOf(request).some((one) => about.test(one)))
      ? verdict(request)
      : 'on';
export const refused = ({ invoke }: Request): Verdict => ({ answer: refusal(invoke) });
export const rejected = ({ invoke }: Request): Verdict => ({ answer: rejection(invoke) });
export const lost = (): Verdict => 'lost';
/** All that is written fails like that. */
export const failing =
  (code: number) =>
  (request: Request): Verdict => {
    const { invoke } = request;
    if (request.service !== 'write') return refused(request);
    const results = request.request.values.map(() => code);
    return { answer: { type: 'response', invoke, service: 'write', response: { results } } };
  };

/** What is read of something fails like that, and all else that is read with it does not. */
export const unreadable =
  (about: RegExp, code: number): NonNullable<Quirks['says']> =>
  (pdu, to) =>
    pdu.type === 'response' && pdu.service === 'read' && to !== undefined
      ? [
          {
            ...pdu,
            response: {
              results: pdu.response.results.map((one, at) =>
                about.test(namesOf(to)[at] ?? '') ? { type: 'failure' as const, code } : one,
              ),
            },
          },
        ]
      : [pdu];

/** Each value that goes out to the client as another one. */
export const values =
  (next: (value: Data) => Data): NonNullable<Quirks['says']> =>
  (pdu) => {
    if (pdu.type === 'report') return [{ ...pdu, results: pdu.results.map((one) => mapped(one, next)) }];
    if (pdu.type === 'response' && pdu.service === 'read')
      return [{ ...pdu, response: { results: pdu.response.results.map((one) => mapped(one, next)) } }];
    return [pdu];
  };
/** Names of lists in pages of so many. */
export const pages =
  (most: number): NonNullable<Quirks['says']> =>
  (pdu) =>
    pdu.type === 'response' && pdu.service === 'nameList' && pdu.response.names.length > most
      ? [{ ...pdu, response: { names: pdu.response.names.slice(0, most), more: true } }]
      : [pdu];
