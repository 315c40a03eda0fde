import { refusalOf } from './control.ts';
import type { Definition } from '../definition.ts';
import { COUNTER_WORDS, TROUBLE } from './counters.ts';
import { outstationEnds, masterEnds } from './ends.ts';
import { DEVICE_FIELDS, OUTBOUND_FIELDS } from './fields.ts';
import { changesDevice, orderSchema, orderWords, type Order } from './order.ts';
import { address, points, type Dnp3At, type Dnp3DraftAt, type Dnp3TargetAt } from './points.ts';
import { GENERIC_PROFILES } from './profiles.ts';
import { masterSettings, outstationSettings, type MasterSettings, type OutstationSettings } from './settings.ts';
import { targets } from './target.ts';

export const dnp3: Definition<MasterSettings, OutstationSettings, Dnp3At, Dnp3DraftAt, Dnp3TargetAt, 'dnp3'> = {
  code: 'dnp3',
  words: { name: 'DNP3', us: 'master', them: 'outstation' },
  framings: [],
  counters: {
    words: COUNTER_WORDS,
    device: ['requests', 'responses', 'timeouts', 'headerChecksums', 'events'],
    outbound: ['requests', 'responses', 'confirmsReceived', 'events', 'noiseOctets'],
    trouble: TROUBLE,
  },
  address,
  device: {
    links: ['tcpClient', 'tcpServer', 'udp', 'serial'],
    port: 20_000,
    settings: masterSettings,
    fields: DEVICE_FIELDS,
    first: { ourAddress: 1, theirAddress: 0 },
    placed: ['ourAddress', 'theirAddress'],
    adopts: [
      ...(['responseTimeoutMs', 'retries', 'silentPeriodMs', 'silentTimeoutMs'] as const),
      ...(['keepAliveMs', 'commitWaitMs', 'timeAheadMs', 'timeBehindMs'] as const),
    ],
    plan: { ours: 'ourAddress', theirs: 'theirAddress' },
    where: ({ theirAddress }) => `address ${theirAddress}`,
    key: ({ theirAddress }) => String(theirAddress),
    ends: masterEnds,
    check: ({ ourAddress, theirAddress }) =>
      ourAddress === theirAddress ? [`our address and the device's are both ${ourAddress}`] : [],
    refusal: refusalOf,
    answerWithinMs: ({ responseTimeoutMs }) => responseTimeoutMs,
    unpolled: (settings) => ({
      ...settings,
      integrityPeriodMs: 0,
      class1PeriodMs: 0,
      class2PeriodMs: 0,
      class3PeriodMs: 0,
    }),
    timeBounds: ({ timeAheadMs, timeBehindMs }) => ({ aheadMs: timeAheadMs, behindMs: timeBehindMs }),
    polls: ({ class1PeriodMs, integrityPeriodMs }) => [
      { what: 'Events are asked for', everyMs: class1PeriodMs },
      { what: 'all values', everyMs: integrityPeriodMs },
    ],
    requests: null,
    takesTurns: true,
    details: null,
    trial: {
      words: 'connects, asks for the link status, reads class 0; changes nothing',
      steps: { linkStatus: 'Link status', read: 'Read' },
    },
    orders: {
      schema: orderSchema,
      words: (order) => orderWords(order as Order),
      changes: (order) => changesDevice(order as Order),
      asks: [
        { words: 'take our time', order: { what: 'synchronise' } },
        { words: 'freeze its counters', order: { what: 'freeze', clear: false, range: null, acknowledged: true } },
      ],
      broadcasts: [
        { words: 'take our time', order: { what: 'broadcast', job: 'time' } },
        { words: 'freeze their counters', order: { what: 'broadcast', job: 'freeze' } },
      ],
      inquiry: null,
      restart: (how) => ({ what: 'restart', how }),
      files: true,
      modes: ['selectOperate', 'direct', 'directNoAnswer'],
    },
    profiles: GENERIC_PROFILES,
    descriptions: null,
  },
  source: null,
  points,
  offers: {
    links: ['tcpServer', 'tcpClient', 'udp', 'serial'],
    port: 20_100,
    settings: outstationSettings,
    fields: OUTBOUND_FIELDS,
    first: { ourAddress: 10, theirAddress: 100 },
    placed: ['ourAddress', 'theirAddress'],
    adopts: [
      ...(['confirmTimeoutMs', 'selectTimeoutMs', 'maxControls'] as const),
      ...(['unsolicitedDelayMs', 'unsolicitedRetries', 'unsolicitedRestMs'] as const),
    ],
    plan: { ours: 'ourAddress', theirs: 'theirAddress' },
    where: ({ ourAddress, theirAddress }) => `our address ${ourAddress}, theirs ${theirAddress}`,
    key: ({ ourAddress, theirAddress }) => `${ourAddress} ${theirAddress}`,
    ends: outstationEnds,
    check: ({ ourAddress, theirAddress }) =>
      ourAddress === theirAddress ? [`our address and the centre's are both ${ourAddress}`] : [],
    targets,
  },
  publishes: null,
};
