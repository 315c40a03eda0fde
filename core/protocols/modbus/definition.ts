import { refusalOf } from './wire/pdu.ts';
import type { Definition } from '../definition.ts';
import { COUNTER_WORDS, TROUBLE } from './counters.ts';
import { clientEnds, serverEnds } from './ends.ts';
import { DEVICE_FIELDS, OUTBOUND_FIELDS } from './fields.ts';
import { ORDER_WORDS, orderSchema, type Order } from './order.ts';
import { requestPlan } from './plan.ts';
import { address, points, type ModbusAt, type ModbusDraftAt, type ModbusTargetAt } from './points.ts';
import {
  clientSettings,
  GROUPS,
  periodOf,
  serverSettings,
  type ClientSettings,
  type ServerSettings,
} from './settings.ts';
import { targets } from './target.ts';

export const modbus: Definition<ClientSettings, ServerSettings, ModbusAt, ModbusDraftAt, ModbusTargetAt, 'modbus'> = {
  code: 'modbus',
  words: { name: 'Modbus', us: 'client', them: 'server' },
  framings: [
    { code: 'tcp', words: 'Modbus TCP', links: ['tcpClient', 'tcpServer'] },
    { code: 'rtu', words: 'RTU', links: ['serial', 'tcpClient', 'tcpServer'] },
    { code: 'ascii', words: 'ASCII', links: ['serial', 'tcpClient', 'tcpServer'] },
  ],
  counters: {
    words: COUNTER_WORDS,
    device: ['requests', 'responses', 'exceptions', 'timeouts', 'checksums'],
    outbound: ['requests', 'responses', 'exceptions', 'writes'],
    trouble: TROUBLE,
  },
  address,
  device: {
    links: ['tcpClient', 'serial'],
    port: 502,
    settings: clientSettings,
    fields: DEVICE_FIELDS,
    first: { unitId: 1 },
    placed: ['unitId'],
    adopts: ['responseTimeoutMs', 'retries', 'silentPeriodMs', 'silentTimeoutMs', 'minimumGapMs'],
    plan: { ours: null, theirs: 'unitId' },
    where: ({ unitId }) => `unit ${unitId}`,
    key: ({ unitId }) => String(unitId),
    ends: clientEnds,
    check: () => [],
    refusal: refusalOf,
    answerWithinMs: ({ responseTimeoutMs }) => responseTimeoutMs,
    unpolled: (settings) => ({ ...settings, period1Ms: 0, period2Ms: 0, period3Ms: 0 }),
    timeBounds: () => null,
    polls: (settings) => GROUPS.map((group) => ({ what: `group ${group}`, everyMs: periodOf(settings, group) })),
    requests: requestPlan,
    takesTurns: true,
    details: null,
    trial: {
      words: 'connects, asks for an identification and reads one register; changes nothing',
      steps: { identify: 'Identification', read: 'Read' },
    },
    orders: {
      schema: orderSchema,
      words: (order) => ORDER_WORDS[(order as Order).what],
      changes: (order) => (order as Order).what === 'restart',
      asks: [
        { words: 'identify itself', order: { what: 'identify' } },
        { words: 'echo a request', order: { what: 'echo' } },
      ],
      broadcasts: [],
      inquiry: null,
      restart: null,
      files: false,
      modes: ['direct'],
    },
    profiles: [],
    descriptions: null,
  },
  source: null,
  points,
  offers: {
    links: ['tcpServer', 'tcpClient', 'serial'],
    port: 5030,
    settings: serverSettings,
    fields: OUTBOUND_FIELDS,
    first: { unitId: 1 },
    placed: ['unitId'],
    adopts: [],
    plan: { ours: 'unitId', theirs: null },
    where: ({ unitId }) => `our unit ${unitId}`,
    key: ({ unitId }) => String(unitId),
    ends: serverEnds,
    check: () => [],
    targets,
  },
  publishes: null,
};
