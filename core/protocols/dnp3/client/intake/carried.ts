import { concat } from '../../../../bytes/index.ts';
import { addressWords } from '../../../../point/index.ts';
import type { Carrying, MarkedFrame } from '../../../measured.ts';
import { describeFragment } from '../../describe.ts';
import { flagWords } from '../../quality.ts';
import { decodeFragment } from '../../wire/application.ts';
import { measuredReadings, type MeasuredReading } from '../../wire/measured.ts';
import { partIn, positionsInFrames } from '../../wire/transport.ts';

/**
 * A fragment with readings, for their trail. One stands behind the latest reading of each point: it holds the frames and
 * nothing else, as texts of one character for each octet. Those are single small objects; a hundred thousand arrays of
 * octets with a buffer each hold the memory's housekeeping up.
 */
export class CarryingFragment implements Carrying<MeasuredReading> {
  private readonly first: string;
  private readonly others: readonly string[];

  constructor(frames: readonly Uint8Array[]) {
    this.first = frames.length > 0 ? asText(frames[0]) : '';
    this.others = frames.length > 1 ? frames.slice(1).map(asText) : NO_OTHERS;
  }

  private get carriers(): Uint8Array[] {
    return [this.first, ...this.others].map(asOctets);
  }

  private get fragment(): Uint8Array {
    return concat(this.carriers.map(partIn));
  }

  words(): string {
    return describeFragment(this.fragment);
  }

  form({ group, variation, index }: MeasuredReading): string {
    return `g${group}v${variation} i${index}`;
  }

  /** A text carries no flags. */
  said({ kind, flags }: MeasuredReading): string | null {
    return kind === 'text' ? null : flagWords(kind, flags);
  }

  frames({ at, octets, bit }: MeasuredReading): MarkedFrame[] {
    const { carriers } = this;
    const marked = new Map<number, number[]>();
    for (const { frame, position } of positionsInFrames(at, octets))
      marked.set(frame, [...(marked.get(frame) ?? []), position]);
    return [...marked].map(([frame, positions]) => ({
      octets: carriers[frame],
      marked: positions,
      bit,
      ...layoutOf(carriers[frame].length),
    }));
  }

  address({ kind, index }: MeasuredReading): string {
    return addressWords(kind, index);
  }

  /** Bits of the fragment before it. */
  place({ at, bit }: MeasuredReading): number {
    return at * 8 + (bit ?? 0);
  }

  again(place: number): MeasuredReading | null {
    const decoded = decodeFragment(this.fragment);
    if (!decoded.ok) return null;
    return measuredReadings(decoded.value).readings.find((reading) => this.place(reading) === place) ?? null;
  }
}

const NO_OTHERS: readonly string[] = [];
const asText = (octets: Uint8Array): string => String.fromCharCode.apply(null, octets as unknown as number[]);
const asOctets = (text: string): Uint8Array => Uint8Array.from(text, (octet) => octet.charCodeAt(0));

/** A header of ten octets, then blocks of sixteen with two of checksum behind each (IEEE 1815, 9.2). */
function layoutOf(length: number): { quiet: number[]; lines: number[] } {
  const [quiet, lines]: [number[], number[]] = [[], []];
  for (let at = 0, size = HEADER; at < length; at += size, size = BLOCK) {
    const end = Math.min(length, at + size);
    lines.push(at);
    for (let octet = at === 0 ? 0 : end - 2; octet < end; octet++) quiet.push(octet);
  }
  return { quiet, lines };
}
const HEADER = 10;
const BLOCK = 18;

/** The numbers of a device's points, by kind and index. */
export class PointNumbers {
  private readonly kinds = new Map<string, Map<number, number>>();

  constructor(points: readonly ListedPoint[] = []) {
    for (const { kind, index, id } of points) {
      const ofKind = this.kinds.get(kind) ?? new Map<number, number>();
      this.kinds.set(kind, ofKind.set(index, id));
    }
  }

  of(kind: string, index: number): number | null {
    return this.kinds.get(kind)?.get(index) ?? null;
  }
}

/** A point of the device's list, with its number. */
export interface ListedPoint {
  kind: MeasuredReading['kind'];
  index: number;
  id: number;
}
