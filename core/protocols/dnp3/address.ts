import { z } from 'zod';

/** Link addresses from 65520 on are reserved (IEEE 1815, clause 9.2.5.1). */
export const HIGHEST_ADDRESS = 65519;

/** For any outstation that hears it (clause 9.2.5.2): it answers from its own address. */
export const SELF_ADDRESS = 0xfffc;

/** For all outstations at once: without a confirm, with one that is due, with one at the outstation's choice. */
export const Broadcast = { noConfirm: 0xfffd, confirm: 0xfffe, optionalConfirm: 0xffff } as const;
export const BROADCAST_ADDRESSES: readonly number[] = Object.values(Broadcast);

export const linkAddress = z
  .number({ error: 'A DNP3 address is a whole number from 0 to 65519' })
  .int('A DNP3 address is a whole number')
  .min(0, 'A DNP3 address is at least 0')
  .max(HIGHEST_ADDRESS, `A DNP3 address is at most ${HIGHEST_ADDRESS}; 65520 to 65535 are reserved`);

export const pointIndex = z
  .number({ error: 'A point needs an address, a whole number from 0 to 65535' })
  .int('A DNP3 point index is a whole number')
  .min(0, 'A DNP3 point index is at least 0')
  .max(65535, 'A DNP3 point index is at most 65535');
