import type { Preview, PreviewContext, Table } from '@halvix/core/pointlist';
import { addressOf, inAddressOrder } from '@halvix/core/protocols';
import type { Result } from '@halvix/core/session';
import type { PasteJob } from './paste.worker.ts';

type Job = PasteJob extends infer One ? (One extends PasteJob ? Omit<One, 'id'> : never) : never;

let worker: Worker | null = null;
let next = 0;
const waiting = new Map<number, { done: (result: unknown) => void; failed: (error: Error) => void }>();

/** Makes the worker, so that the first paste need not wait for it. */
export function readyForPaste(): Worker {
  if (worker === null) {
    worker = new Worker(new URL('./paste.worker.ts', import.meta.url), { type: 'module' });
    worker.onmessage = ({ data }: MessageEvent<{ id: number; result: unknown }>): void => {
      waiting.get(data.id)?.done(data.result);
      waiting.delete(data.id);
    };
    worker.onerror = (event): void => {
      for (const { failed } of waiting.values()) failed(new Error(event.message || 'it could not be read'));
      waiting.clear();
      worker?.terminate();
      worker = null;
    };
  }
  return worker;
}

/** Has the worker do something; it is made anew after it broke. */
function ask(job: Job): Promise<unknown> {
  const at = readyForPaste();
  const id = ++next;
  return new Promise((done, failed) => {
    waiting.set(id, { done, failed });
    at.postMessage({ ...job, id });
  });
}

/** Rows and columns of a text, or of a text file's octets. */
export const analyse = (given: string | Uint8Array): Promise<Result<Table, string>> =>
  ask(typeof given === 'string' ? { do: 'text', text: given } : { do: 'octets', octets: given }) as Promise<
    Result<Table, string>
  >;

/** The same of rows that are split already. */
export const analyseRows = (rows: string[][]): Promise<Result<Table, string>> =>
  ask({ do: 'rows', rows }) as Promise<Result<Table, string>>;

/**
 * What taking a table over would do. Only the known points that it may concern go to the worker, and the highest of
 * each kind, after which those without an address are numbered.
 */
export async function previewed(table: Table, context: PreviewContext): Promise<Preview> {
  const addresses = (await ask({
    do: 'addresses',
    table,
    kind: context.kind,
    protocols: [...new Set(context.devices.values())],
  })) as Set<string>;
  const highest = new Map<string, number>();
  const places: number[] = [];
  context.known.forEach(({ device, point }, at) => {
    const address = addressOf(point);
    if (address === '') return;
    if (addresses.has(address)) places.push(at);
    const key = `${device} ${point.kind}`;
    const top = highest.get(key);
    if (top === undefined || inAddressOrder(context.known[top].point, point) < 0) highest.set(key, at);
  });
  const concerned = [...new Set([...places, ...highest.values()])];
  const known = concerned.map((at) => context.known[at]);
  const preview = (await ask({ do: 'preview', table, context: { ...context, known } })) as Preview;
  return {
    ...preview,
    rows: preview.rows.map((row) => (row.known === null ? row : { ...row, known: concerned[row.known] })),
  };
}
