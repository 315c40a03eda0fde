import { z } from 'zod';
import { NO_COUNTERS, NO_ORDERS, NO_PLAN, NO_TRIAL, type Definition } from '../definition.ts';
import { points, type SupervisionAt, type SupervisionDraftAt } from './points.ts';

export const settings = z.object({});

/** What Halvix knows itself of its devices and centres, as points like any other. */
export const supervision: Definition<object, never, SupervisionAt, SupervisionDraftAt, never, 'supervision'> = {
  code: 'supervision',
  words: { name: 'Supervision', us: 'supervisor', them: 'communication with devices and centres, as points' },
  links: [],
  framings: [],
  port: 0,
  counters: NO_COUNTERS,
  device: {
    settings,
    fields: [],
    first: {},
    placed: [],
    adopts: [],
    plan: NO_PLAN,
    where: () => 'no link',
    key: () => '',
    ends: () => [],
    check: () => [],
    refusal: () => 'other',
    answerWithinMs: () => 0,
    unpolled: (own) => own,
    timeBounds: () => null,
    polls: () => [],
    requests: null,
    takesTurns: false,
    details: null,
    trial: NO_TRIAL,
    orders: NO_ORDERS,
  },
  points,
  profiles: [],
  descriptions: null,
  outbound: null,
};
