import { afterEach, beforeEach, expect, test, vi } from 'vitest';

const base = vi.hoisted(() => ({
  calls: [] as { outbound: number; octets: number[]; replaces: boolean; run: string }[],
  fails: false,
  hold: null as Promise<void> | null,
}));
vi.mock('@halvix/db', () => ({
  addKept: async (_database: unknown, ...rest: unknown[]) => {
    if (base.fails) throw new Error('away');
    base.calls.push({ given: rest } as never);
    await base.hold;
  },
  keptPieces: async (_database: unknown, outbound: number) => [Uint8Array.of(outbound)],
}));
