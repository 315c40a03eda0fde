import type { PointKind } from '@halvix/core/point';
import type { ProtocolCode } from '@halvix/core/protocols';
import {
  addressesIn,
  decodeText,
  previewTable,
  readTable,
  tableOf,
  type PreviewContext,
  type Table,
} from '@halvix/core/pointlist';

/** Reads tables beside the page: a file of any size leaves the screen alive. */
export type PasteJob =
  | { id: number; do: 'text'; text: string }
  | { id: number; do: 'octets'; octets: Uint8Array }
  | { id: number; do: 'rows'; rows: string[][] }
  | { id: number; do: 'addresses'; table: Table; kind: PointKind; protocols: ProtocolCode[] }
  | { id: number; do: 'preview'; table: Table; context: PreviewContext };

self.onmessage = ({ data }: MessageEvent<PasteJob>): void => {
  self.postMessage({ id: data.id, result: carriedOut(data) });
};

function carriedOut(job: PasteJob): unknown {
  switch (job.do) {
    case 'text':
      return readTable(job.text);
    case 'octets': {
      const text = decodeText(job.octets);
      return text.ok ? readTable(text.value) : text;
    }
    case 'rows':
      return tableOf(job.rows);
    case 'addresses':
      return addressesIn(job.table, job.kind, job.protocols);
    case 'preview':
      return previewTable(job.table, job.context);
    default:
      return job satisfies never;
  }
}
