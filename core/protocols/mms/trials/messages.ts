import { concat } from '../../../bytes/index.ts';
import { decodeTpdu } from '../wire/cotp.ts';
import { decodePdu } from '../wire/pdu.ts';
import { decodeUserData } from '../wire/presentation.ts';
import { decodeSpdu } from '../wire/session.ts';
import type { ServiceName } from '../wire/services.ts';
import { TpktReader } from '../wire/tpkt.ts';

export interface Messages {
  requests: { invoke: number; service: ServiceName }[];
  responses: { invoke: number; service: ServiceName }[];
  /** What is written, name by name. */
  writes: string[];
  /** How many values each report brings. */
  reports: number[];
}

/** The messages of MMS in what both ends of an association sent, as our decoder reads them. */
export function messagesOf(pieces: readonly { octets: Uint8Array; fromCaller: boolean }[]): Messages {
  const found: Messages = { requests: [], responses: [], writes: [], reports: [] };
  const ends = [true, false].map(() => ({ packets: new TpktReader(), parts: [] as Uint8Array[] }));
  for (const { octets, fromCaller } of pieces) {
    const end = ends[fromCaller ? 0 : 1];
    for (const packet of end.packets.push(octets)) {
      const tpdu = decodeTpdu(packet);
      if (!tpdu.ok || tpdu.value.type !== 'data') continue;
      end.parts.push(tpdu.value.data);
      if (!tpdu.value.last) continue;
      const spdu = decodeSpdu(concat(end.parts.splice(0)));
      if (!spdu.ok || spdu.value.type !== 'data') continue;
      const user = decodeUserData(spdu.value.data);
      const pdu = user.ok ? decodePdu(user.value.octets) : null;
      if (!pdu?.ok) continue;
      const { value } = pdu;
      if (value.type === 'request') found.requests.push({ invoke: value.invoke, service: value.service });
      if (value.type === 'request' && value.service === 'write')
        found.writes.push(...(value.request.variables.names ?? []).map(({ name }) => name.item));
      if (value.type === 'response') found.responses.push({ invoke: value.invoke, service: value.service });
      if (value.type === 'report') found.reports.push(value.results.length);
    }
  }
  return found;
}
