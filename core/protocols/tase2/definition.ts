import type { Refusal } from '../control.ts';
import { NO_PLAN, type Definition } from '../definition.ts';
import { AccessError } from '../mms/wire/data.ts';
import { COUNTER_WORDS, TROUBLE } from './counters.ts';
import { clientEnds, serverEnds } from './ends.ts';
import { DEVICE_FIELDS, OUTBOUND_FIELDS } from './fields.ts';
import { orderSchema, orderWords, type Order } from './order.ts';
import { address, points, type TaseAt, type TaseDraftAt, type TaseTargetAt } from './points.ts';
import { clientSettings, serverSettings, type ClientSettings, type ServerSettings } from './settings.ts';
import { targets } from './target.ts';

/** A write that is refused says no more than that. */
const REFUSALS: Readonly<Record<number, Refusal | undefined>> = {
  [AccessError.temporarilyUnavailable]: 'busy',
  [AccessError.denied]: 'notAuthorized',
  [AccessError.nonExistent]: 'notSupported',
  [AccessError.valueInvalid]: 'outOfRange',
};

export const tase2: Definition<ClientSettings, ServerSettings, TaseAt, TaseDraftAt, TaseTargetAt, 'tase2'> = {
  code: 'tase2',
  words: { name: 'TASE.2', us: 'client', them: 'server' },
  framings: [],
  counters: {
    words: COUNTER_WORDS,
    device: ['associations', 'reports', 'reportedValues', 'polledValues'],
    outbound: ['associations', 'requests', 'reports', 'reportedValues', 'controls'],
    trouble: TROUBLE,
  },
  address,
  device: {
    links: ['tcpClient'],
    port: 102,
    settings: clientSettings,
    fields: DEVICE_FIELDS,
    first: {},
    placed: [],
    adopts: ['timeAheadMs', 'timeBehindMs'],
    plan: NO_PLAN,
    where: ({ domain }) => `domain ${domain}`,
    // An association has its connection for itself.
    key: () => 'association',
    ends: clientEnds,
    check: ({ reports, pollMs }) =>
      !reports && pollMs === 0 ? ['neither transfer sets nor polling: nothing is ever read'] : [],
    refusal: (status) => REFUSALS[status] ?? 'other',
    answerWithinMs: ({ responseTimeoutMs }) => responseTimeoutMs,
    unpolled: (settings) => ({ ...settings, pollMs: 0 }),
    timeBounds: ({ timeAheadMs, timeBehindMs }) => ({ aheadMs: timeAheadMs, behindMs: timeBehindMs }),
    polls: ({ pollMs, integrityMs }) => [
      { what: 'what no transfer set brings', everyMs: pollMs },
      { what: 'all values of a transfer set', everyMs: integrityMs },
    ],
    requests: null,
    takesTurns: false,
    details: 'Transfer sets',
    trial: {
      words: 'associates, asks for version, features and bilateral table; changes nothing',
      steps: { associate: 'Association', agreement: 'Agreement', objects: 'Objects' },
    },
    orders: {
      schema: orderSchema,
      words: (order) => orderWords(order as Order),
      changes: (order) => (order as Order).what === 'tag',
      asks: [{ words: 'tell version and bilateral table', order: { what: 'agreement' } }],
      broadcasts: [],
      inquiry: { title: 'Tags', words: 'tell its tags', order: { what: 'tags' } },
      restart: null,
      files: false,
      modes: ['selectOperate', 'selectOnly'],
    },
    profiles: [],
    descriptions: null,
  },
  source: null,
  points,
  offers: {
    links: ['tcpServer'],
    port: 102,
    settings: serverSettings,
    fields: OUTBOUND_FIELDS,
    first: {},
    placed: [],
    adopts: [],
    plan: NO_PLAN,
    where: ({ domain }) => `domain ${domain}`,
    key: ({ transportSelector }) => transportSelector.toLowerCase(),
    byCaller: true,
    shares: 'association',
    quiet: true,
    details: 'Transfer sets',
    orders: {
      operatorRequest: { words: 'report all values, as an operator’s request' },
      externalEvent: { words: 'report all values, as an external event' },
      localReset: { words: 'take selections back' },
      takeTagsOff: {
        words: 'take all tags off',
        careful: 'What they inhibit can be operated again. Whoever set them may have people at work there.',
      },
      message: { words: 'tell them a message', text: 'Message' },
    },
    ends: serverEnds,
    check: () => [],
    targets,
  },
  publishes: null,
};
