import { sentMessages } from '@halvix/db';
import { error, json } from '@sveltejs/kit';
import { database } from '$lib/server/database.ts';
import type { RequestHandler } from './$types';

/** Characters of a message that are shown. */
const MOST_SHOWN = 100_000;

/** What is in a packet, message by message: as text where it is one, else as octets in hexadecimal. */
export const GET: RequestHandler = async ({ params }) => {
  const packet = Number(params.packet);
  if (!Number.isSafeInteger(packet) || packet < 0) error(400, `packet: ${params.packet} is no number of a packet`);
  const messages = await sentMessages(database, params.code, packet);
  if (messages === null) error(404, `packet: ${packet} is not kept any more`);
  return json({
    messages: messages.map(({ to, octets }) => {
      const text = textOf(octets);
      return { to, octets: octets.length, text: text.slice(0, MOST_SHOWN), isCut: text.length > MOST_SHOWN };
    }),
  });
};

function textOf(octets: Uint8Array): string {
  try {
    return new TextDecoder('utf-8', { fatal: true }).decode(octets);
  } catch {
    return Buffer.from(octets).toString('hex').replace(/(..)/g, '$1 ').trim();
  }
}
