import { AccessError, type Data } from '../../mms/wire/data.ts';
import { sameData } from './tree.ts';

/*
 * A data object whose value a client may replace or hold (IEC 61850-7-3, 7.2: substitution SV, blocking BL).
 *
 * held by     shows
 * ----------  --------------------------------------------------------------------------------------------
 * nobody      what the process has
 * blkEna      what it had when that was set; its quality says operator blocked and old data
 * subEna      the value and quality to replace it; the quality says substituted
 *
 * What the process has meanwhile is remembered, and shown when it is let go.
 */

export interface Part {
  path: readonly string[];
  data: Data;
  trigger: 'dataChange' | 'qualityChange' | null;
}

const [OLD_DATA, SUBSTITUTED, BLOCKED] = [7, 10, 12];
const QUALITY_SIZE = 13;
/** What replaces what, by their names. */
export const REPLACES: Readonly<Record<string, readonly string[]>> = {
  subVal: ['stVal'],
  subMag: ['mag', 'instMag'],
  subCVal: ['cVal', 'instCVal'],
  subQ: ['q'],
};

const withBit = (data: Data, ...set: number[]): Data => ({
  type: 'bits',
  bits: Array.from(
    { length: QUALITY_SIZE },
    (_, bit) => set.includes(bit) || (data.type === 'bits' && (data.bits[bit] ?? false)),
  ),
});

export class Overridden {
  private isSubstituted = false;
  private isBlocked = false;
  /** What the process has, by paths. */
  private process = new Map<string, Part>();

  get isHeld(): boolean {
    return this.isSubstituted || this.isBlocked;
  }

  /** What the process has now: shown (returned) where nobody holds it. */
  set(parts: readonly Part[]): readonly Part[] {
    if (!this.isHeld) return parts;
    for (const part of parts) this.process.set(part.path.join('.'), part);
    return [];
  }

  /**
   * A client writes one of them; `present`: what stands at a place of the object by its constraint and path. With the
   * access error, or what is to be shown now.
   */
  write(
    attribute: string,
    data: Data,
    present: (fc: 'value' | 'SV', ...path: string[]) => Data | null,
    stamp: Data,
  ): { error: number } | { shown: readonly Part[] } {
    const isSwitch = attribute === 'subEna' || attribute === 'blkEna';
    if (isSwitch && data.type !== 'boolean') return { error: AccessError.typeInconsistent };
    const was = this.isHeld;
    if (!was) this.remember(present);
    if (attribute === 'subEna') this.isSubstituted = data.type === 'boolean' && data.value;
    if (attribute === 'blkEna') this.isBlocked = data.type === 'boolean' && data.value;
    if (!this.isHeld) {
      const shown = was ? [...this.process.values()] : [];
      this.process = new Map();
      return { shown };
    }
    return { shown: this.shown(attribute, data, present, stamp) };
  }

  private remember(present: (fc: 'value' | 'SV', ...path: string[]) => Data | null): void {
    for (const [name, trigger] of [
      ...Object.values(REPLACES)
        .flat()
        .filter((one) => one !== 'q')
        .map((one) => [one, 'dataChange'] as const),
      ['q', 'qualityChange'] as const,
      ['t', null] as const,
    ]) {
      const data = present('value', name);
      if (data !== null) this.process.set(name, { path: [name], data, trigger });
    }
  }

  private shown(
    attribute: string,
    data: Data,
    present: (fc: 'value' | 'SV', ...path: string[]) => Data | null,
    stamp: Data,
  ): readonly Part[] {
    const parts: Part[] = [{ path: ['t'], data: stamp, trigger: null }];
    const quality = present('value', 'q');
    if (!this.isSubstituted) {
      if (quality === null) return parts;
      return [...parts, { path: ['q'], data: withBit(quality, BLOCKED, OLD_DATA), trigger: 'qualityChange' }];
    }
    for (const [from, towards] of Object.entries(REPLACES)) {
      // What is written stands in the model only behind this.
      const value = from === attribute ? data : present('SV', from);
      if (value === null) continue;
      for (const to of towards) {
        if (to === 'q') continue;
        const now = present('value', to);
        if (now !== null && !sameData(now, value)) parts.push({ path: [to], data: value, trigger: 'dataChange' });
      }
    }
    const replaced = attribute === 'subQ' ? data : (present('SV', 'subQ') ?? { type: 'bits' as const, bits: [] });
    const bits = this.isBlocked ? [SUBSTITUTED, BLOCKED] : [SUBSTITUTED];
    return [...parts, { path: ['q'], data: withBit(replaced, ...bits), trigger: 'qualityChange' }];
  }
}
