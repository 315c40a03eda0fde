import { z } from 'zod';
import { NO_COUNTERS, NO_PLAN, type Definition } from '../definition.ts';
import { address, points, type SupervisionAt, type SupervisionDraftAt } from './points.ts';

export const settings = z.object({});

/** What Halvix knows itself of its devices and centres, as points like any other. */
export const supervision: Definition<object, never, SupervisionAt, SupervisionDraftAt, never, 'supervision'> = {
  code: 'supervision',
  words: { name: 'Supervision', us: 'supervisor', them: 'communication with devices and centres, as points' },
  framings: [],
  counters: NO_COUNTERS,
  address,
  device: null,
  source: {
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
  },
  points,
  offers: null,
  publishes: null,
};
