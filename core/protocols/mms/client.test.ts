import { beforeEach, expect, test } from 'vitest';
import { MmsClient, type Answer } from './client.ts';
import { AGREEMENT } from './settings.ts';
import { settings } from './trials/pair.ts';
import { decodePdu, encodePdu, type Negotiated, type Pdu } from './wire/pdu.ts';

/* A client on a way whose other end answers as the test says. */

const NOW = 1_700_000_000_000;
let effects: object[];
let requests: number[];
let client: MmsClient;
let answers: string[];

function open(agreement: Partial<Negotiated>): void {
  [requests, answers] = [[], []];
  effects = [{ type: 'open', agreement: { ...AGREEMENT, ...agreement } }];
  const way = {
    ...{
      state: 'open',
      deadline: null,
      start: () => {},
      wake: () => {},
      receive: () => {},
      abort: () => {},
      send: () => {},
    },
    take: () => effects.splice(0),
    sendEncoded: (octets: Uint8Array) => {
      const read = decodePdu(octets);
      if (read.ok && read.value.type === 'request') requests.push(read.value.invoke);
    },
  };
  client = new MmsClient({ ...settings(), responseTimeoutMs: 2000 }, () => {}, way as never);
  client.start(NOW);
  for (let n = 0; n < 6; n++)
    client.ask('identify', {}, (answer: Answer<'identify'>) => answers.push(answer.ok ? 'ok' : answer.words), NOW);
}
function say(pdu: Pdu): void {
  effects.push({ type: 'pdu', pdu, octets: encodePdu(pdu) });
  client.receive(new Uint8Array(), NOW);
}
const respond = (invoke: number): void =>
  say({ type: 'response', invoke, service: 'identify', response: { vendor: 'v', model: 'm', revision: 'r' } } as never);
const reject = (invoke: number, code: number): void => say({ type: 'reject', invoke, kind: 1, code });
beforeEach(() => open({}));

test.each([
  [{ calling: 2, called: 5 }, 2],
  [{ calling: 5, called: 3 }, 3],
  [{ calling: 0, called: 5 }, 1],
])('of what was agreed on for either end the smaller is kept to: %j', (agreement, most) => {
  open(agreement);
  expect(requests).toHaveLength(most);
  respond(requests[0]);
  expect(requests).toHaveLength(most + 1);
});

test('what a server rejects as one too many is asked again, and no more at once than it took', () => {
  open({ calling: 4, called: 4 });
  expect(requests).toHaveLength(4);
  // It takes three.
  reject(requests[3], 6);
  expect([requests.length, answers]).toEqual([4, []]);
  respond(requests[0]);
  expect(requests).toHaveLength(5);
  for (let at = 1; at < requests.length; at++) if (at !== 3) respond(requests[at]);
  expect([requests.length, answers]).toEqual([7, new Array(6).fill('ok')]);
});

test('what it rejects for another reason, or alone, is an answer', () => {
  open({ calling: 2, called: 2 });
  reject(requests[0], 4);
  expect(answers).toEqual(['an argument is not valid there']);
  open({ calling: 1, called: 1 });
  reject(requests[0], 6);
  expect(answers).toEqual(['more requests at once than agreed on']);
});
