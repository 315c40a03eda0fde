import { refusalOf } from './control.ts';
import { NO_PLAN, type Definition } from '../definition.ts';
import { COUNTER_WORDS, TROUBLE } from './counters.ts';
import { clientEnds, serverEnds } from './ends.ts';
import { DEVICE_FIELDS, OUTBOUND_FIELDS } from './fields.ts';
import { changesDevice, orderSchema, orderWords, type Order } from './order.ts';
import { address, points, type IecAt, type IecDraftAt, type IecTargetAt } from './points.ts';
import { servedModel } from './scl/served.ts';
import { clientSettings, serverSettings, type ClientSettings, type ServerSettings } from './settings.ts';
import { targets } from './target.ts';

export const iec61850: Definition<ClientSettings, ServerSettings, IecAt, IecDraftAt, IecTargetAt, 'iec61850'> = {
  code: 'iec61850',
  words: { name: 'IEC 61850', us: 'client', them: 'server' },
  framings: [],
  counters: {
    words: COUNTER_WORDS,
    device: ['associations', 'reports', 'reportedValues', 'polledValues', 'gaps'],
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
    where: () => 'association',
    // An association has its connection for itself.
    key: () => 'association',
    ends: clientEnds,
    check: ({ reports, pollMs }) =>
      reports === 'none' && pollMs === 0 ? ['neither reports nor polling: nothing is ever read'] : [],
    refusal: refusalOf,
    answerWithinMs: ({ responseTimeoutMs }) => responseTimeoutMs,
    unpolled: (settings) => ({ ...settings, pollMs: 0, alsoPollMs: 0 }),
    timeBounds: ({ timeAheadMs, timeBehindMs }) => ({ aheadMs: timeAheadMs, behindMs: timeBehindMs }),
    polls: ({ pollMs, alsoPollMs, integrityMs }) => [
      { what: 'what no report carries', everyMs: pollMs },
      { what: 'what reports carry, read', everyMs: alsoPollMs },
      { what: 'all values of a report', everyMs: integrityMs },
    ],
    requests: null,
    takesTurns: false,
    details: 'Reports and delays',
    trial: {
      words: 'associates, asks what it is and which logical devices it has; changes nothing',
      steps: { associate: 'Association', identify: 'Identification', model: 'Model' },
    },
    orders: {
      schema: orderSchema,
      words: (order) => orderWords(order as Order),
      changes: (order) => {
        const read = orderSchema.safeParse(order);
        return read.success && changesDevice(read.data);
      },
      asks: [
        { words: 'identify itself', order: { what: 'identify' } },
        { words: 'report all values', order: { what: 'interrogate' } },
      ],
      broadcasts: [],
      inquiry: {
        title: 'Setting groups, logs, attributes',
        words: 'tell its groups, logs, attributes',
        order: { what: 'overview' },
      },
      restart: null,
      files: true,
      modes: ['selectOperate', 'selectOnly'],
    },
    profiles: [],
    descriptions: {
      words: 'a substation configuration file (SCL)',
      extensions: ['.scd', '.cid', '.icd', '.iid', '.ssd', '.scl', '.xml'],
      reader: async () => new (await import('./scl/describe.ts')).SclDescriptions(),
    },
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
    where: () => 'model',
    key: ({ transportSelector }) => transportSelector.toLowerCase(),
    byCaller: true,
    quiet: true,
    orders: {
      releaseValues: {
        words: 'let go of all values that clients replace or hold',
        careful: 'They follow their devices again. Whoever replaced one may have had a reason.',
      },
    },
    ends: serverEnds,
    check: (settings) => {
      const served = servedModel(settings);
      return served === null || served.ok ? [] : [served.problem];
    },
    targets,
    files: [
      {
        ...{ words: 'Model as a file (CID)', extension: '.cid' },
        make: async (offer) => (await import('./scl/offer.ts')).offerFile(offer, true),
      },
      {
        ...{ words: 'Without address (ICD)', extension: '.icd' },
        make: async (offer) => (await import('./scl/offer.ts')).offerFile(offer, false),
      },
    ],
  },
  publishes: null,
};
