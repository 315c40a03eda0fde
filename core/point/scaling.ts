/** A linear scaling: engineering value = raw × gain + offset. */
export interface Scaling {
  gain: number;
  offset: number;
}

export const scale = (raw: number, { gain, offset }: Scaling): number => raw * gain + offset;

/** Decimals worth showing for a gain: 0.01 → 2. Whole numbers need none. */
export function decimals({ gain, offset }: Scaling): number {
  const places = (x: number): number => {
    for (let n = 0; n < 6; n++) if (Math.abs(x * 10 ** n - Math.round(x * 10 ** n)) < 1e-9) return n;
    return 6;
  };
  return Math.max(places(gain), places(offset));
}
