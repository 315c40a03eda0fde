import type { DescribedPoint, ProtocolCode } from '@halvix/core/protocols';
import type { DescribeJob, DescribeNews, Summary, Which } from './describe.worker.ts';

export interface DescribeEvents {
  progress: (octets: number) => void;
  done: (summary: Summary) => void;
  /** It cannot be read; why. */
  failed: (words: string) => void;
}

/** A file that describes devices, read beside the page; its points stay there until they are wanted. */
export class DescriptionReading {
  private readonly worker = new Worker(new URL('./describe.worker.ts', import.meta.url), { type: 'module' });
  private readonly asked = new Map<number, (points: DescribedPoint[][]) => void>();
  private questions = 0;

  constructor(protocol: ProtocolCode, file: File, events: DescribeEvents) {
    this.worker.onmessage = ({ data: news }: MessageEvent<DescribeNews>): void => {
      switch (news.type) {
        case 'progress':
          events.progress(news.octets);
          break;
        case 'done':
          events.done(news.summary);
          break;
        case 'failed':
          events.failed(news.words);
          break;
        case 'points':
          this.asked.get(news.id)?.(news.points);
          this.asked.delete(news.id);
          break;
        default:
          news satisfies never;
      }
    };
    this.worker.onerror = (event): void => events.failed(event.message || 'it could not be read');
    this.say({ type: 'read', protocol, file });
  }

  private say(job: DescribeJob): void {
    this.worker.postMessage(job);
  }

  /** Points of some devices, by their places. */
  points(devices: readonly number[], which: Which): Promise<DescribedPoint[][]> {
    const id = ++this.questions;
    return new Promise((resolve) => {
      this.asked.set(id, resolve);
      this.say({ type: 'points', id, devices, which });
    });
  }

  end(): void {
    this.worker.terminate();
  }
}

/** Codes for devices of these names: the name as a code, with a number behind it where that is taken. */
export function codesFor(names: readonly string[], taken: Iterable<string>): string[] {
  const known = new Set(taken);
  return names.map((name) => {
    const plain = name.toUpperCase().replace(/[^A-Z0-9-]+/g, '-');
    const base = plain.replace(/^-+|-+$/g, '').slice(0, MOST_BASE) || 'DEVICE';
    let code = base;
    for (let n = 2; known.has(code); n++) code = `${base}-${n}`;
    known.add(code);
    return code;
  });
}
/** Leaves room for a number. */
const MOST_BASE = 18;
