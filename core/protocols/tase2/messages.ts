import type { AccessResult, Data, TypeOf } from '../mms/wire/data.ts';
import type { Variable } from '../mms/wire/services.ts';

/*
 * Information messages (IEC 60870-6-503, conformance block 4, and -802; from memory, with nobody else's to compare with):
 *
 *   IM_Transfer_Set    boolean: whoever writes true is told messages until its association ends, or it writes false
 *   Info_Mess_Header   { InfoRef int32, LocalRef int32, MsgId int32, Length int32 }
 *   Info_Buff          octet string: the message
 *
 * A message is told as these two, by name. Of what comes, anything is taken whose names begin so and whose parts are a
 * structure of at least three whole numbers, and octets or characters.
 */

export const MESSAGES = { set: 'IM_Transfer_Set', header: 'Info_Mess_Header', buffer: 'Info_Buff' } as const;
const BEGINS = 'Info_';
export const MOST_MESSAGE = 8000;

export interface InfoMessage {
  infoRef: number;
  localRef: number;
  id: number;
  octets: Uint8Array;
}

export const HEADER_TYPE: TypeOf = {
  type: 'structure',
  components: ['InfoRef', 'LocalRef', 'MsgId', 'Length'].map((name) => ({ name, of: { type: 'integer', bits: 32 } })),
};
export const BUFFER_TYPE: TypeOf = { type: 'octets', size: -MOST_MESSAGE };

export const headerData = ({ infoRef, localRef, id, octets }: InfoMessage): Data => ({
  type: 'structure',
  items: [infoRef, localRef, id, octets.length].map((value) => ({ type: 'integer', value })),
});

/** The message that is told; null: it is none. */
export function messageOf(names: readonly Variable[], results: readonly AccessResult[]): InfoMessage | null {
  const own = results.filter((_, at) => names[at]?.name.item.startsWith(BEGINS));
  const header = own.find((one) => one.type === 'structure');
  const body = own.find((one) => one.type === 'octets' || one.type === 'text');
  if (header?.type !== 'structure' || body === undefined) return null;
  const numbers = header.items.map((one) =>
    one.type === 'integer' || one.type === 'unsigned' ? Number(one.value) : NaN,
  );
  if (numbers.length < 3 || numbers.some(Number.isNaN)) return null;
  const [infoRef, localRef, id, length] = numbers;
  const octets =
    body.type === 'octets'
      ? body.octets
      : body.type === 'text'
        ? new TextEncoder().encode(body.text)
        : new Uint8Array();
  // What is longer than it says is filled up behind it.
  return { infoRef, localRef, id, octets: length > 0 && length < octets.length ? octets.subarray(0, length) : octets };
}

/** As people read it: as text where it is some, otherwise its octets. */
export function messageText({ octets }: InfoMessage): string {
  try {
    const text = new TextDecoder('utf-8', { fatal: true }).decode(octets);
    // eslint-disable-next-line no-control-regex
    if (!/[\u0000-\u0008\u000e-\u001f\u007f]/.test(text)) return text;
  } catch {
    // It is no text.
  }
  return [...octets.subarray(0, 200)].map((one) => one.toString(16).padStart(2, '0')).join(' ');
}

export const messageWords = (message: InfoMessage): string =>
  `message ${message.infoRef}/${message.localRef}/${message.id}: ${messageText(message)}`;
