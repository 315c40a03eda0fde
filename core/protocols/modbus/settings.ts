import '../../words/index.ts';
import { z } from 'zod';

const milliseconds = (low: number, high: number, fallback: number): z.ZodDefault<z.ZodNumber> =>
  z.number().int().min(low).max(high).default(fallback);

/**
 * Most that one request may read (Modbus Application Protocol V1.1b3, 6.1 and 6.3): 2000 bits, 125 registers.
 */
export const MOST_BITS = 2000;
export const MOST_REGISTERS = 125;

/** Poll groups of a device, each with its own period. */
export const GROUPS = [1, 2, 3] as const;
export type Group = (typeof GROUPS)[number];

export const unitId = z
  .number({ error: 'A unit identifier is a whole number from 0 to 255' })
  .int('A unit identifier is a whole number')
  .min(0, 'A unit identifier is at least 0')
  .max(255, 'A unit identifier is at most 255');

/** Settings of our client towards a device. Times in milliseconds; a period of 0 switches that group off. */
export const clientSettings = z.object({
  unitId,
  period1Ms: milliseconds(0, 86_400_000, 1000),
  period2Ms: milliseconds(0, 86_400_000, 10_000),
  period3Ms: milliseconds(0, 86_400_000, 60_000),
  responseTimeoutMs: milliseconds(20, 120_000, 1000),
  retries: z.number().int().min(0).max(10).default(2),
  /** How often a silent device is asked, and how long its answer is waited for. */
  silentPeriodMs: milliseconds(500, 3_600_000, 15_000),
  silentTimeoutMs: milliseconds(20, 120_000, 500),
  /** The part of a shared line that the device gets, against its neighbours'. */
  share: z.number().int().min(1).max(100).default(1),
  /** From the end of one request to the beginning of the next at least. */
  minimumGapMs: milliseconds(0, 60_000, 0),
  /** What the device takes in one request. */
  maxRegisters: z.number().int().min(1).max(MOST_REGISTERS).default(MOST_REGISTERS),
  maxBits: z.number().int().min(1).max(MOST_BITS).default(MOST_BITS),
  /** Registers that nobody asked for are read along where that is cheaper than another request; a device may refuse them. */
  bridgesGaps: z.boolean().default(true),
  /** Where nobody takes turns: how many requests are under way at once. */
  outstanding: z.number().int().min(1).max(16).default(1),
  /** After a request without an answer the rest of its round is left out. */
  dropsRound: z.boolean().default(false),
  /**
   * Single values are written by functions 05 and 06, or like several by 15 and 16, or numbers by 23, which reads them
   * back at once.
   */
  writes: z.enum(['single', 'multiple', 'readWrite']).default('single'),
  /** Single bits of a register are written by function 22; else the register is read, changed and written. */
  maskWrites: z.boolean().default(false),
});
export type ClientSettings = z.infer<typeof clientSettings>;

export const periodOf = (settings: ClientSettings, group: Group): number => settings[`period${group}Ms`];

/** Settings of our server towards others. */
export const serverSettings = z.object({
  unitId,
  /** Clients that are connected at the same time. */
  maxClients: z.number().int().min(1).max(100).default(8),
  /** Addresses between mapped points are read as 0; else a request that touches one is refused. */
  fillsGaps: z.boolean().default(true),
  /** What is read of a point whose value is not to be used: its last value, or the value that says there is none. */
  invalid: z.enum(['last', 'none']).default('last'),
});
export type ServerSettings = z.infer<typeof serverSettings>;
